#pragma once

#include "base/expected.h"
#include "base/framerange.h"
#include "base/geometry.h"
#include "lens/lens.h"
#include "motion/ride.h"

#include <atomic>
#include <functional>
#include <memory>
#include <mutex>
#include <optional>
#include <string>
#include <vector>

namespace pinion {

/// A surface on one frame: its places run from (0, 0), the top left corner, to (1, 1), the bottom right one.
class Sheet {
public:
    virtual ~Sheet() = default;
    virtual Eigen::Vector2d onPlate(const Eigen::Vector2d& sheet) const = 0;
    /// The place of the sheet that is seen there, also beyond its edges; none where it cannot be told.
    virtual std::optional<Eigen::Vector2d> onSheet(const Eigen::Vector2d& plate) const = 0;
    /// Whether the camera sees that side of it.
    virtual bool faces(const Eigen::Vector2d& sheet) const = 0;
    /// It is bent in space, round a body.
    virtual bool isCurved() const = 0;
    /// A homography takes it to the plate.
    virtual bool isFlat() const = 0;
};

/// Whatever motion something rides on. Safe to read from several threads.
class Carrier {
public:
    /// `make` works the motion out the first time it is asked for; `range` are the frames it is worked out over.
    Carrier(FrameRange range, std::function<Expected<PlateMotion>()> make);
    virtual ~Carrier() = default;
    Carrier(const Carrier&) = delete;
    Carrier& operator=(const Carrier&) = delete;

    const FrameRange& range() const { return range_; }
    /// How the plate moves with it. Without frames while there is a problem.
    const PlateMotion& motion() const { return known().motion; }
    /// Why nothing carries, in words that follow a name: "rides on p-1, and there is no such track". Empty: it does.
    const std::string& problem() const { return known().problem; }
    /// The frames of its range on which it is not.
    const std::vector<int>& missing() const { return known().missing; }
    /// Of the nearest frame on which it is; the identity when nothing carries.
    Eigen::Matrix3d plateFromReference(int frame) const;
    /// Whether asking for any of these takes no time.
    bool isWorkedOut() const { return workedOut_.load(std::memory_order_acquire); }
    /// The whole motion, or the problem.
    Expected<PlateMotion> motionOrProblem() const;

    /// It has a surface of its own, whose corners are known by themselves.
    virtual bool hasSurface() const { return false; }
    virtual std::optional<Quad> cornersOn(int /*frame*/) const { return std::nullopt; }
    virtual std::unique_ptr<Sheet> surfaceOn(int /*frame*/) const { return nullptr; }
    /// The frames of its range on which the surface is not seen; worked out once.
    const std::vector<int>& surfaceMissing() const;
    /// All frames on which the surface may be, also beyond the range.
    virtual std::vector<int> surfaceFrames() const { return {}; }
    /// Its surface's width to height, in pixels of the plate.
    virtual std::optional<double> surfaceRatio() const { return std::nullopt; }
    /// The lens that bends what lies flat between four places that it carries, as it is on that frame; null: it is
    /// laid straight on the plate.
    virtual std::shared_ptr<const Lens> lensOn(int /*frame*/) const { return nullptr; }

private:
    struct Known {
        PlateMotion motion;
        std::string problem;
        Fault fault = Fault::input;  ///< of the problem
        std::vector<int> missing;
    };
    const Known& known() const;
    FrameRange range_;
    mutable std::function<Expected<PlateMotion>()> make_;  ///< goes when it has been asked: it holds what it needs
    mutable std::once_flag once_, surfaceOnce_;
    mutable Known known_;
    mutable std::vector<int> surfaceMissing_;
    mutable std::atomic<bool> workedOut_{false};
};

/// The same motion told from another frame.
PlateMotion rebased(const PlateMotion& motion, int referenceFrame);

/// What there is to ride on.
class Carriers {
public:
    virtual ~Carriers() = default;
    /// Never null: with nothing to ride on it has a problem. Worked out once for what it is made from. Safe to call
    /// from several threads.
    virtual std::shared_ptr<const Carrier> of(const Ride& ride) const = 0;
    /// The same if it is known or quickly worked out, else null: for an interface, which cannot wait.
    virtual std::shared_ptr<const Carrier> quickOf(const Ride& ride) const = 0;
};

}  // namespace pinion
