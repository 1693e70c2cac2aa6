#include "canvas/displaypictures.h"

#include <algorithm>

namespace pinion {
namespace {

constexpr std::size_t kKept = 12;

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
    const auto isIt = [picture, view, rendering](const Entry& entry) {
        return entry.picture == picture && entry.view == view && entry.rendering == rendering;
    };
    const auto found = std::find_if(entries.begin(), entries.end(), isIt);
    if (found != entries.end()) {
        entries.splice(entries.begin(), entries, found);
        return entries.front().image;
    }
    entries.push_front({picture, view, rendering, {}});
    if (entries.size() > kKept) entries.pop_back();
    jobs_.live().start([this, &jobs = jobs_, weak = std::weak_ptr(state_), picture, view, rendering, isIt] {
        if (weak.expired()) return;
        QImage image = rendering ? rendering->made(*picture, view) : imageOf(*picture, view);
        QMetaObject::invokeMethod(&jobs, [this, weak, isIt, image = std::move(image)] {
            const auto held = weak.lock();  // while it is held, so is this
            if (!held) return;
            for (Entry& entry : held->entries)
                if (isIt(entry)) entry.image = image;
            arrived_();
        });
    });
    return {};
}

}  // namespace pinion
