#pragma once

#include "comp/artshelf.h"
#include "render/cardfile.h"
#include "render/mesh.h"
#include "render/meshfile.h"
#include "render/planetable.h"
#include "render/surface.h"
#include "world/eye.h"
#include "world/standin.h"

#include <memory>
#include <string>
#include <vector>

namespace pinion {

/// How a frame of a scene is rendered.
struct SceneWish {
    PixelBox box;         ///< of the plate's pixels: what is kept
    bool linear = false;  ///< whether the plate's tones are
    int samples = 64;     ///< rays through a pixel where an edge passes: 1 to 256
    bool passes = false;
    FrameRate fps;              ///< of the plate
    ArtShelf* shelf = nullptr;  ///< where cards have their pictures from; null: they are plain
};

/// What is told of each pixel beside its colour: of what its middle sees first, so not smoothed; 0 where it sees
/// nothing but the plate, and depth is 0 there. Rows from the top, of `box`.
struct ScenePasses {
    std::vector<float> depth;     ///< metres before the camera, along its axis
    std::vector<float> normal;    ///< three a pixel, of the world
    std::vector<float> position;  ///< three a pixel, of the world
    std::vector<float> mask;      ///< the stand-in's place in the list, from 1
    std::vector<float> shadow;    ///< the share of light that is lost on what catches shadows, smoothed
};

struct SceneFrame {
    Layer layer;
    ScenePasses passes;
};

/// Stand-ins as they are seen by the solved camera, through its lens and by the rows that read them: rays through each
/// pixel, more of them where an edge or a shadow's border passes, so that nothing is resampled. What catches shadows
/// darkens the plate: its layer is black there, as transparent as light is left. Safe to use from several threads.
class SceneRenderer {
public:
    explicit SceneRenderer(SceneLook look);
    const SceneLook& look() const { return look_; }

    /// `number` may lie between two frames, where the eye is. Adds to `problems` what could not be shown.
    SceneFrame frame(const WorldEye& eye, double number, const SceneWish& wish,
                     std::vector<std::string>* problems = nullptr) const;
    /// What cannot be shown as it should, in words.
    std::vector<std::string> troubles() const;

private:
    class Frame;

    /// What a stand-in shows on a frame, null: its own colour; none while its clip is not there.
    std::optional<std::shared_ptr<const SurfacePicture>> pictureOf(std::size_t i, double number, const SceneWish& wish,
                                                                   std::vector<std::string>* problems) const;

    SceneLook look_;
    std::vector<std::optional<Expected<CardClip>>> clips_;         ///< of each stand-in that shows a file's pictures
    std::vector<std::shared_ptr<const Mesh>> shapes_;              ///< of each stand-in; null: it cannot be shown
    std::vector<std::shared_ptr<const SurfacePicture>> pictures_;  ///< of each stand-in; null: none
    /// Of each stand-in that is a mesh with pictures of its own.
    std::vector<std::vector<MeshFile::Skin>> skins_;
    PlaneTables planes_;
};

/// The pixels of `within` that stand-ins and their shadows on the ground may touch.
PixelBox boxOfScene(const SceneLook& look, const WorldEye& eye, double frame, const PixelBox& within);
inline PixelBox boxOfScene(const SceneLook& look, const WorldEye& eye, double frame, int width, int height) {
    return boxOfScene(look, eye, frame, PixelBox{0, 0, width, height});
}

/// The first stand-in under a place of the plate, and where its surface is met; the ground where it meets none.
struct ScenePick {
    StandInId standIn = 0;  ///< 0: the ground
    Eigen::Vector3d world{0, 0, 0};
};
/// Where cards have their pictures from: a click goes through what is clear of them. Without a shelf they are solid.
struct CardPictures {
    ArtShelf* shelf = nullptr;
    FrameRate fps;  ///< of the plate
};
std::optional<ScenePick> pickedAt(const SceneLook& look, const WorldEye& eye, int frame, const Eigen::Vector2d& plate,
                                  const CardPictures& cards = {});
/// The same by any ray; cards face `eye`.
std::optional<ScenePick> pickedAlong(const SceneLook& look, const WorldRay& ray, const Eigen::Vector3d& eye, int frame,
                                     const CardPictures& cards = {});

/// Where a ray meets the level at a height; none when it does not before the camera.
std::optional<Eigen::Vector3d> onLevel(const WorldRay& ray, double height);

/// The corners of the box of a stand-in that stands there, its unit corners in the order x fastest, then y, then z.
std::array<Eigen::Vector3d, 8> boxCorners(StandInKind kind, const Stance& stance);

}  // namespace pinion
