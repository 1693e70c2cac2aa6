#include "canvas/displaypictures.h"

#include "base/log.h"

#include <algorithm>
#include <exception>
#include <utility>

namespace pinion {
namespace {

constexpr std::size_t kKept = 24;
constexpr int kAtOnce = 2;

}  // namespace

QImage imageOf(const Picture& picture, const ViewTransform& view) {
    auto* pixels = new std::vector<std::uint32_t>(displayPixels(picture, view));
    return {reinterpret_cast<const uchar*>(pixels->data()),
            picture.width,
            picture.height,
            picture.width * 4,
            QImage::Format_RGB32,
            [](void* held) { delete static_cast<std::vector<std::uint32_t>*>(held); },
            pixels};
}

DisplayPictures::DisplayPictures(JobRunner& jobs, std::function<void()> arrived)
    : jobs_(jobs), arrived_(std::move(arrived)), state_(std::make_shared<State>()) {}

void DisplayPictures::clear() { state_->entries.clear(); }

QImage DisplayPictures::get(const PicturePtr& picture, const ViewTransform& view,
                            const std::shared_ptr<const Rendering>& rendering) {
    if (!picture) return {};
    auto& entries = state_->entries;
    auto found = std::find_if(entries.begin(), entries.end(), [&](const Entry& entry) {
        return entry.picture == picture && entry.view == view && entry.rendering == rendering;
    });
    if (found == entries.end()) found = entries.insert(entries.begin(), Entry{picture, view, rendering});
    entries.splice(entries.begin(), entries, found);
    entries.front().round = state_->round;
    if (entries.size() > kKept) entries.pop_back();
    // When all that is asked for in this round is known: the latest first.
    if (entries.front().image.isNull() && !entries.front().begun && !std::exchange(state_->called, true))
        QMetaObject::invokeMethod(
            &jobs_,
            [this, weak = std::weak_ptr(state_)] {
                if (weak.lock()) makeNext();
            },
            Qt::QueuedConnection);
    return entries.front().image;
}

QImage DisplayPictures::peek(const PicturePtr& picture, const ViewTransform& view,
                             const std::shared_ptr<const Rendering>& rendering) const {
    for (const Entry& entry : state_->entries)
        if (entry.picture == picture && entry.view == view && entry.rendering == rendering) return entry.image;
    return {};
}

void DisplayPictures::makeNext() {
    State& state = *state_;
    state.called = false;
    while (state.running < kAtOnce) {
        const auto next = std::find_if(state.entries.begin(), state.entries.end(), [&](const Entry& entry) {
            return entry.image.isNull() && !entry.begun && entry.round == state.round;
        });
        if (next == state.entries.end()) return;
        make(*next);
    }
}

void DisplayPictures::make(Entry& entry) {
    entry.begun = true;
    ++state_->running;
    jobs_.live().start([this, &jobs = jobs_, weak = std::weak_ptr(state_), picture = entry.picture, view = entry.view,
                        rendering = entry.rendering] {
        QImage image;
        try {
            if (!weak.expired()) image = rendering ? rendering->made(*picture, view) : imageOf(*picture, view);
        } catch (const std::exception& error) {
            // Out of memory, mostly: the view stays without it, and the program goes on.
            log::error("a picture for the screen failed: {}", error.what());
        }
        QMetaObject::invokeMethod(&jobs, [this, weak, picture, view, rendering, image = std::move(image)] {
            const auto held = weak.lock();  // while it is held, so is this
            if (!held) return;
            --held->running;
            for (Entry& one : held->entries)
                if (one.picture == picture && one.view == view && one.rendering == rendering) one.image = image;
            makeNext();
            arrived_();
        });
    });
}

}  // namespace pinion
