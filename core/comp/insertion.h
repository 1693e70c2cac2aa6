#pragma once

#include "comp/art.h"
#include "motion/carrier.h"
#include "planar/surface.h"

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

namespace pinion {

// Where inserts lie, and which frame of their clips is shown when.

/// The number of its clip's frame that is shown on a frame of the plate; none before its start, and after its end when
/// it ends there.
std::optional<int> clipFrameAt(const ClipTime& time, const Clip& clip, int frame, FrameRate plateRate);
/// How many frames of the plate the used part of a clip fills.
int shownFrames(const ClipTime& time, const Clip& clip, FrameRate plateRate);
/// On a frame of the plate: by its keys, or the look's; 0 while it is not there.
double opacityAt(const Insert& insert, int frame);

/// The art's corners within its carrier, (0, 0) to (1, 1); `widthToHeight` the carrier's.
Quad placedInside(const Placing& placing, double widthToHeight);
/// The placing by which art of one shape lies in a carrier of another, middle on middle: whole inside it, or covering
/// it; or bent to its very corners.
enum class Fitting { inside, covering, corners };
Placing fitted(Fitting fitting, double art, double carrier);

/// Width to height of what carries an insert as seen on a screen, where pixels need not be square; without working out
/// how that moves.
double carrierRatio(const Insert& insert, const Carriers& carriers, double pixelAspect);

/// What a homography through the corners of a piece of bent art may miss, about, in pixels: in what is rendered, and
/// for a screen. In the worst piece it is up to four times as much.
inline constexpr double kRenderBend_px = 0.02, kScreenBend_px = 0.5;

/// A surface as pieces each of which moves by a homography; those that are turned away are left out.
std::vector<ArtPiece> piecesOf(const SurfaceSheet& sheet, double bend_px = kRenderBend_px);

/// What an insert lies in, over a shot: where its corners are, frame by frame.
class InsertSurface {
public:
    /// Of what it rides on; `problem` says what is missing, and then it is nowhere. `pixelAspect`: width of a pixel of
    /// the plate to its height.
    InsertSurface(const Insert& insert, const Carriers& carriers, double pixelAspect = 1);
    /// Of corners a frame, by rising frame, seen through a lens; there is nothing between them.
    explicit InsertSurface(std::vector<PlaneTie> corners, PlaneLens lens = nullptr, double pixelAspect = 1);
    const std::string& problem() const { return problem_; }
    double widthToHeight() const { return widthToHeight_; }
    /// Where it is on a frame; none where it is not. With `nearest`, on such frames as on the nearest where it is.
    std::optional<Quad> at(int frame, bool nearest = false) const;
    /// How many frames away the nearest is on which it is; 0 there.
    int away(int frame) const;
    /// The frames on which it is not, between the ends of the carriers' range.
    const std::vector<int>& missing() const { return missing_; }
    /// The art's pieces on a frame; with an open shutter at its instants. Empty where it is not.
    std::vector<std::vector<ArtPiece>> pieces(const Placing& placing, int frame, double shutter = 0,
                                              bool nearest = false, double bend_px = kRenderBend_px) const;
    /// The art's own corners on a frame.
    std::optional<Quad> corners(const Placing& placing, int frame, bool nearest = false) const;
    /// Its sides, from the first corner round to the last; curves where it is bent. Empty where it is not.
    Polygon outline(const Placing& placing, int frame, bool nearest = false) const;
    /// The places of its carrier, (0, 0) to (1, 1), and the plate's.
    std::optional<Eigen::Vector2d> inside(const Eigen::Vector2d& plate, int frame) const;
    std::optional<Eigen::Vector2d> onPlate(const Eigen::Vector2d& place, int frame) const;

private:
    std::optional<int> nearestTo(int frame) const;
    std::unique_ptr<Sheet> sheetAt(int frame) const;
    bool isGone_ = false;                     ///< what carried it: it is nowhere
    std::shared_ptr<const Carrier> carrier_;  ///< null: it stands still
    bool onOwn_ = false;                      ///< in the carrier's own surface
    bool bends_ = false;                      ///< by the carrier's lens
    std::optional<std::vector<PlaneTie>> corners_;
    PlaneLens lens_;  ///< of the corners
    Quad quad_;       ///< on the reference frame
    double widthToHeight_ = 1;
    std::string problem_;
    FrameRange range_;
    std::vector<int> missing_;
};

/// Four corners between frames, `part` of a frame after `frame`, from those on frames: cubics through those beside it
/// (Catmull and Rom 1974); where those are not known it goes on as it went.
Quad cornersBetween(const std::function<std::optional<Quad>(int frame)>& at, int frame, double part);
/// The instants of an open shutter about a frame, as parts of a frame: so many that no corner moves by more than a
/// pixel or so between two.
std::vector<double> shutterInstants(const std::function<std::optional<Quad>(int frame)>& at, int frame, double shutter);

}  // namespace pinion
