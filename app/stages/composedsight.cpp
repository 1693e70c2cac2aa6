#include "stages/composedsight.h"

#include "canvas/displaypictures.h"

#include <algorithm>

namespace pinion {

namespace {

constexpr std::size_t kKept = 12;

}  // namespace

class ComposedSight::Composition : public Rendering {
public:
    Composition(std::shared_ptr<const InsertScene> scene, std::shared_ptr<ArtShelf> shelf, int frame,
                std::shared_ptr<Problems> problems)
        : scene_(std::move(scene)), shelf_(std::move(shelf)), frame_(frame), problems_(std::move(problems)) {}
    QImage made(const Picture& picture, const ViewTransform& view) const override {
        std::vector<std::string> problems;
        QImage image = imageOf(composed(*scene_, frame_, picture, *shelf_, &problems), view);
        const std::lock_guard lock(problems_->mutex);
        problems_->byFrame[frame_] = std::move(problems);
        return image;
    }

private:
    std::shared_ptr<const InsertScene> scene_;
    std::shared_ptr<ArtShelf> shelf_;
    int frame_;
    std::shared_ptr<Problems> problems_;
};

std::shared_ptr<const Rendering> ComposedSight::rendering(int frame) const {
    const auto scene = laid();
    if (!scene || scene->inserts.empty() || !session_.hasPlate()) return nullptr;
    const auto known = std::find_if(made_.begin(), made_.end(),
                                    [&](const Made& one) { return one.frame == frame && one.scene == scene; });
    if (known != made_.end()) {
        made_.splice(made_.begin(), made_, known);
        return made_.front().rendering;
    }
    if (problemsOf_ != whole()) {
        problems_ = std::make_shared<Problems>();
        problemsOf_ = whole();
    }
    made_.push_front({frame, scene, std::make_shared<const Composition>(scene, shelf(), frame, problems_)});
    if (made_.size() > kKept) made_.pop_back();
    return made_.front().rendering;
}

QString ComposedSight::problemAt(int frame) const {
    const std::lock_guard lock(problems_->mutex);
    const auto found = problems_->byFrame.find(frame);
    return found == problems_->byFrame.end() || found->second.empty() ? QString() : text(found->second.front());
}

}  // namespace pinion
