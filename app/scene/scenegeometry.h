#pragma once

#include "camera/solve.h"
#include "shot/shot.h"

#include <QColor>

#include <functional>
#include <vector>

namespace pinion {

struct SceneVertex {
    float x, y, z;
    float r, g, b, a;
};

SceneVertex sceneVertex(const Eigen::Vector3d& place, const QColor& colour, float alpha = 1.0F);

/// What the 3D view draws of a solve: a point a track, the camera's path, the ground.
struct SceneGeometry {
    std::vector<SceneVertex> cloud;
    std::vector<TrackId> tracks;       ///< of the cloud's points; empty while a solve runs
    std::vector<SceneVertex> path;     ///< a line strip
    std::vector<SceneVertex> objects;  ///< points of what moves by itself, where it is on the frame
    std::vector<SceneVertex> ways;     ///< pairs of ends: where it goes
    std::vector<SceneVertex> ground;   ///< pairs of ends
    std::vector<SceneVertex> solids;   ///< triangles of what stands in the scene, shaded, where it is on the frame
    /// Triangles of what shows a picture: their colours are the place in it and how light it is.
    struct Pictured {
        StandInId of = 0;
        int skin = 0;  ///< of a mesh, which of its materials' pictures, from 1; 0: what the stand-in itself shows
        std::vector<SceneVertex> triangles;
    };
    std::vector<Pictured> pictured;
    std::vector<SceneVertex> wires;  ///< pairs of ends: its edges
    Eigen::Vector3d eye{0, 0, 0};    ///< the middle of the path
    double size = 10.0;              ///< from the eye to the middle of the scene
    bool travels = true;             ///< otherwise the points are directions on a sphere around the eye

    Eigen::Vector3d placeOf(std::size_t point) const;
};

using ColourOfTrack = std::function<QColor(const SolvedTrack&)>;

/// The shot's solve, oriented and scaled; empty without one.
SceneGeometry geometryOf(const Shot& shot, const ColourOfTrack& colourOf);

/// What stands in the scene, where it is on a frame; shaded, but for those that `hasPicture` says a picture is there
/// of.
void placeStandIns(SceneGeometry& scene, const Shot& shot, int frame,
                   const std::function<bool(StandInId, int skin)>& hasPicture);
/// The points of the shot's objects where they are on a frame.
void placeObjects(SceneGeometry& scene, const Shot& shot, int frame);

/// What a running solve has so far: upright as the cameras are and as large as a finished solve, so that the picture
/// does not jump at the end.
SceneGeometry geometryOf(const SolveView& view);

}  // namespace pinion
