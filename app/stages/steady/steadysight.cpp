#include "stages/steady/steadysight.h"

#include "comp/steadied.h"

#include <Eigen/LU>
#include <algorithm>

namespace pinion {
namespace {

constexpr std::size_t kKept = 12;  // renderings of frames that were shown last or come next

/// Between the plate as filmed and with its rows straightened.
class RowBend : public PlateBend {
public:
    RowBend(std::shared_ptr<const RowWarp> rows, int frame) : rows_(std::move(rows)), frame_(frame) {}
    std::optional<Eigen::Vector2d> straightFromPlate(const Eigen::Vector2d& plate) const override {
        return rows_->straightFromFilmed(frame_, plate);
    }
    std::optional<Eigen::Vector2d> plateFromStraight(const Eigen::Vector2d& straight) const override {
        return rows_->filmedFromStraight(frame_, straight);
    }

private:
    std::shared_ptr<const RowWarp> rows_;
    int frame_;
};

/// The plate with its rows straightened, as the middle row's instant had it.
class StraightPicture : public Rendering {
public:
    StraightPicture(std::shared_ptr<const RowWarp> rows, int frame) : rows_(std::move(rows)), frame_(frame) {}
    QImage made(const Picture& picture, const ViewTransform& view) const override {
        // Each frame has a table of its own, as large as the picture: it is not kept.
        const LookUp table = steadying({frame_, Eigen::Matrix3d::Identity()}, *rows_, picture.width, picture.height);
        const auto pixels = DisplayBend(table, picture.width, picture.height).bent(displayPixels(picture, view));
        return QImage(reinterpret_cast<const uchar*>(pixels.get()), picture.width, picture.height, picture.width * 4,
                      QImage::Format_ARGB32_Premultiplied)
            .copy();
    }

private:
    std::shared_ptr<const RowWarp> rows_;
    int frame_;
};

}  // namespace

const FrameMap* SteadySight::mapAt(int frame) const {
    const auto plan = stage_.plan();
    return plan ? plan->at(frame) : nullptr;
}

PlateWarp SteadySight::warpAt(int frame) const {
    PlateWarp warp;
    const FrameMap* map = mapAt(frame);
    if (!map) return warp;
    warp.shownFromStraight = map->sourceFromOutput.inverse();
    if (const auto& rows = stage_.plan()->rows) warp.bend = std::make_shared<const RowBend>(rows, frame);
    return warp;
}

std::shared_ptr<const Rendering> SteadySight::rendering(int frame) const {
    const auto plan = stage_.plan();
    if (!plan || !plan->rows || !plan->at(frame)) return nullptr;
    const auto known = std::find_if(made_.begin(), made_.end(),
                                    [&](const Made& one) { return one.frame == frame && one.rows == plan->rows; });
    if (known != made_.end()) {
        made_.splice(made_.begin(), made_, known);
    } else {
        made_.push_front({frame, plan->rows, std::make_shared<const StraightPicture>(plan->rows, frame)});
        if (made_.size() > kKept) made_.pop_back();
    }
    return made_.front().rendering;
}

QString SteadySight::words(int frame) const {
    const auto plan = stage_.plan();
    const SteadySettings& s = session_.shot().steady;
    if (!stage_.planProblem().isEmpty()) return stage_.planProblem();
    if (!plan && stage_.planPending()) return "working out the motion…";
    if (!plan) return "nothing is steadied: turn it on in the Steady card";
    if (!plan->at(frame)) return "the motion of this frame is not known";
    return QString("%1%2 · zoom %3 %")
               .arg(s.steady ? (s.options.mode == SteadyOptions::Mode::hold ? "hold" : "ease") : "",
                    s.shake && s.profile ? (s.steady ? " · shake" : "shake") : "")
               .arg((plan->zoom - 1) * 100, 0, 'f', 1) +
           (plan->rows ? " · rows straightened" : "");
}

}  // namespace pinion
