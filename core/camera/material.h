#pragma once

#include "camera/relativepose.h"
#include "camera/options.h"
#include "camera/readout.h"

#include <Eigen/Core>
#include <algorithm>
#include <functional>
#include <span>
#include <utility>
#include <vector>

namespace pinion::solving {

// What the tracks say before anything is solved; included by the solver's sources alone.

struct Seen {
    int frame;                     ///< index into `frames`
    Eigen::Vector2d plate;         ///< as if the whole plate were read at once, with its middle row
    Eigen::Vector2d filmed{0, 0};  ///< as tracked
    double row = 0;                ///< where that lies in the order of reading: -0.5 the first row, 0.5 the last
};

struct Trail {
    std::size_t track;  ///< index into the caller's tracks
    std::vector<Seen> seen;
    double weight = 1.0;
    bool heldOut = false;
};

/// The tracks, indexed both ways.
struct Material {
    int width = 0, height = 0;  ///< of the plate, pixels
    std::vector<int> frames;    ///< numbers, rising
    std::vector<Trail> trails;
    std::vector<std::vector<std::pair<int, Eigen::Vector2d>>> byFrame;  ///< (trail, place), adjusted ones only
    int duplicates = 0;  ///< tracks left out because another has the same samples
    double scale() const {
        return std::max(1.0, width / 1920.0);
    }  ///< what a tracker's pixel is worth: errors grow with large plates only
};

/// The tracks that are not set aside, with every tenth of the long ones held out. Fails when a place is not a number.
/// `filmed`: the same tracks as the lens bent them, where `tracks` are straightened: rows are read there.
Expected<Material> gather(std::span<const Track> tracks, const SolveOptions& options,
                          std::span<const Track> filmed = {});

/// Fails when the tracks fall into parts that no track joins (a cut, two shots in one) or frames in the middle have too
/// few, and says where.
Expected<void> checkConnected(const Material& material, int fewest);

/// Whether the picture only shifts, turns and grows as one flat sheet over the whole shot: from each frame a similarity
/// explains the farthest one as well as the next one. No focal length can be told from that.
struct SheetMotion {
    bool isSheet = false;
    double growth = 1.0;     ///< of the last frame over the first
    double travel_px = 0.0;  ///< of the picture's middle
};
SheetMotion sheetMotionOf(const Material& material, const std::vector<int>& keys);

/// The places of the tracks that both frames (indices) see; `trails` gets theirs.
std::vector<std::pair<Eigen::Vector2d, Eigen::Vector2d>> sharedPlaces(const Material& material, int a, int b,
                                                                      std::vector<int>* trails = nullptr);

/// Frames far enough apart to say something new, near enough to share tracks.
std::vector<int> chooseKeyframes(const Material& material, int fewest);

/// Two keyframes to start from.
struct BasePair {
    int a = 0, b = 0;  ///< indices of frames
    double score = 0;
    double parallax_px = 0;  ///< left of the motion after the best turn, in the median
};

/// On the image plane of `lens`; places that it cannot undistort lie far off, where nothing agrees with them.
std::vector<PlanePair> planePairs(const std::vector<std::pair<Eigen::Vector2d, Eigen::Vector2d>>& shared,
                                  const Lens& lens);

/// Up to `count` pairs in different parts of the shot, by how much is left of their motion once the best turn of any of
/// the lenses is taken out, best first.
std::vector<BasePair> chooseBasePairs(const Material& material, const std::vector<int>& keys,
                                      std::span<const Lens> lenses, std::size_t count);

}  // namespace pinion::solving
