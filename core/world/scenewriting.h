#pragma once

#include <array>
#include <filesystem>
#include <string_view>
#include <vector>

namespace pinion {

// How what stands in a shot's scene is rendered. The words are those of a shot's file and of the command line.

/// What is written of each pixel beside its colour, in layers of an EXR: "depth.Z" (metres along the camera's axis),
/// "normal" and "position" (X, Y, Z of the world), "mask.A" (the object's place in the list, from 1), "shadow.A".
enum class ScenePass { shadow, depth, position, normal, mask };
inline constexpr std::array kScenePasses{"shadow", "depth", "position", "normal", "mask"};

/// Over the plate; over it with the shot's name, the frame and its error burnt in; by itself with its alpha,
/// premultiplied; the same as a lens without distortion sees it, as large as the overscan of undistorting it.
enum class SceneManner { over, review, alone, undistorted };
inline constexpr std::array kSceneManners{"over", "review", "alone", "undistorted"};

struct SceneWriting {
    std::filesystem::path place;  ///< relative to the delivery folder; empty: by the shot's name
    SceneManner manner = SceneManner::over;
    std::vector<ScenePass> passes;  ///< of what is alone; of the frame's middle, not blurred
    double shutter = 0;             ///< frames over which motion blurs, 0 to 1

    bool isAlone() const { return manner == SceneManner::alone || manner == SceneManner::undistorted; }
    bool operator==(const SceneWriting&) const = default;
};

}  // namespace pinion
