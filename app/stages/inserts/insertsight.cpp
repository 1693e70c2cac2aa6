#include "stages/inserts/insertsight.h"

#include "canvas/displaypictures.h"

#include <algorithm>

namespace pinion {
namespace {

constexpr std::size_t kKept = 12;

class InsertRendering : public Rendering {
public:
    InsertRendering(std::shared_ptr<const InsertScene> scene, std::shared_ptr<ArtShelf> shelf, int frame,
                    std::shared_ptr<InsertProblems> problems)
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
    std::shared_ptr<InsertProblems> problems_;
};

}  // namespace

std::shared_ptr<const Rendering> InsertSight::rendering(int frame) const {
    const auto scene = hand_.isMoving() ? hand_.sceneBelow() : hand_.scene();
    if (!scene || scene->inserts.empty() || !session_.hasPlate()) return nullptr;
    const auto known = std::find_if(made_.begin(), made_.end(),
                                    [&](const Made& one) { return one.frame == frame && one.scene == scene; });
    if (known != made_.end()) {
        made_.splice(made_.begin(), made_, known);
        return made_.front().rendering;
    }
    if (problemsOf_ != hand_.scene()) {
        problems_ = std::make_shared<InsertProblems>();
        problemsOf_ = hand_.scene();
    }
    made_.push_front({frame, scene, std::make_shared<const InsertRendering>(scene, hand_.shelf(), frame, problems_)});
    if (made_.size() > kKept) made_.pop_back();
    return made_.front().rendering;
}

QString InsertSight::problemAt(int frame) const {
    const std::lock_guard lock(problems_->mutex);
    const auto found = problems_->byFrame.find(frame);
    return found == problems_->byFrame.end() || found->second.empty() ? QString() : text(found->second.front());
}

QString InsertSight::words(int frame) const {
    const Shot& shot = session_.shot();
    if (shot.inserts.isEmpty()) return "there are no inserts yet: add one in the Inserts card";
    if (const QString problem = problemAt(frame); !problem.isEmpty()) return problem;
    if (!hand_.scene()) return "working out where the inserts go…";
    return hand_.isMoving() ? "with inserts · what moves at the view's resolution" : "with inserts";
}

}  // namespace pinion
