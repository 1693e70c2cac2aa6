#pragma once

#include "comp/art.h"
#include "render/planetable.h"
#include "render/surface.h"
#include "world/eye.h"
#include "world/standin.h"

#include <array>
#include <memory>
#include <optional>
#include <span>
#include <vector>

namespace pinion {

/// What a picture is thrown on: a plane of the world, or a stand-in, whose motion it follows.
struct ThrownOn {
    Eigen::Vector3d at{0, 0, 0}, normal{0, 1, 0};  ///< of the plane
    bool isAbout = false;                          ///< the plane's part about `at` is meant, not all of the ground
    std::optional<StandIn> standIn;                ///< in its place; in the world, without a carrier
};

/// A picture that fills the plate's frame, and the camera of the frame that it was made on.
struct ThrownPicture {
    int frame = 0;
    WorldEye eye;
    std::shared_ptr<const SurfacePicture> picture;
    std::shared_ptr<const Art> art{};  ///< that it is, where it is of a clip
};

/// Pictures thrown through the cameras of their frames on to a surface, and seen from another: through both lenses, by
/// the rows that read them, each pixel from its own footprint in the picture, in one resampling. A picture lies only
/// where its camera saw the surface, on the side that it saw. Where several lie on one place, each counts the more the
/// nearer its camera's direction is to the seeing one's (Debevec et al. 1998), and by its alpha: what one leaves clear
/// the others show. Safe to use from several threads.
class Projector {
public:
    /// For a plate of that size.
    Projector(std::vector<ThrownPicture> pictures, ThrownOn onto, int width, int height);

    /// What is seen of it on a frame within `box`, in the plate's tones, premultiplied.
    Layer on(const WorldEye& eye, int frame, const PixelBox& box, bool linear) const;
    /// The pixels of `within` on which anything of it may be seen.
    PixelBox boxOn(const WorldEye& eye, const PixelBox& within) const;
    /// At how many of these places of the plate the surface is seen.
    int seenAt(const WorldEye& eye, int frame, std::span<const Eigen::Vector2d> plate) const;

private:
    class Frame;
    /// Fields of a picture that hold anything, and those beside them: most paint is small.
    static constexpr int kAcross = 32, kDown = 18;
    using Fields = std::array<bool, std::size_t(kAcross) * kDown>;
    static Fields fieldsOf(const SurfacePicture& picture);
    static bool holds(const Fields& fields, const Eigen::Vector2d& at);
    std::vector<ThrownPicture> pictures_;
    std::vector<Fields> fields_;  ///< of each picture
    ThrownOn onto_;
    int width_, height_;
    PlaneTables planes_;
};

}  // namespace pinion
