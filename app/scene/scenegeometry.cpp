#include "scene/scenegeometry.h"

#include "camera/object.h"
#include "picture/picture.h"
#include "render/meshfile.h"
#include "shot/stages/worldstage.h"
#include "widgets/theme.h"

#include <Eigen/Geometry>

#include <algorithm>
#include <array>
#include <cmath>

namespace pinion {
namespace {

using Eigen::Vector3d;

constexpr double kSphere = 10.0;  // radius on which directions are shown, and the size of a solve under way
constexpr int kCells = 12;        // of the ground, to each side
const QColor kGrid(70, 70, 70), kMain(150, 120, 60);

double medianOf(std::vector<double> values) {
    if (values.empty()) return 0;
    const auto middle = values.begin() + std::ptrdiff_t(values.size() / 2);
    std::nth_element(values.begin(), middle, values.end());
    return *middle;
}

void addLine(SceneGeometry& scene, const Vector3d& a, const Vector3d& b, const QColor& colour) {
    scene.ground.push_back(sceneVertex(a, colour));
    scene.ground.push_back(sceneVertex(b, colour));
}

/// Where an object goes, from each of its poses to the next.
void addWay(SceneGeometry& scene, const ObjectSolve& object, const Orientation& orientation) {
    const auto placeOn = [&](const ObjectFrame& frame) {
        return sceneVertex(orientation.apply(Vector3d(frame.worldFromObject.translation())), theme::kSand, 0.7F);
    };
    for (std::size_t i = 1; i < object.frames.size(); ++i)
        scene.ways.insert(scene.ways.end(), {placeOn(object.frames[i - 1]), placeOn(object.frames[i])});
}

/// No ground to lay a grid on: circles of equal height and heading instead.
void addSphere(SceneGeometry& scene) {
    constexpr int kPieces = 72;
    const auto at = [&](double heading, double height) -> Vector3d {
        return scene.eye + kSphere * Vector3d(std::cos(height) * std::sin(heading), std::sin(height),
                                              -std::cos(height) * std::cos(heading));
    };
    const double turn = 2 * M_PI;
    for (int line = -5; line <= 5; ++line)
        for (int piece = 0; piece < kPieces; ++piece)
            addLine(scene, at(turn * piece / kPieces, line * M_PI / 12),
                    at(turn * (piece + 1) / kPieces, line * M_PI / 12), line == 0 ? kMain : kGrid);
    for (int line = 0; line < 24; ++line)
        for (int piece = -15; piece < 15; ++piece)
            addLine(scene, at(turn * line / 24, piece * M_PI / 36), at(turn * line / 24, (piece + 1) * M_PI / 36),
                    kGrid);
}

/// Cells of a round size, so that about a dozen lie between camera and scene.
void addGround(SceneGeometry& scene, bool inMetres) {
    const double cell = inMetres ? std::pow(10.0, std::round(std::log10(scene.size / 10))) : scene.size / 10;
    const double reach = kCells * cell;
    for (int i = -kCells; i <= kCells; ++i) {
        addLine(scene, {-reach, 0, i * cell}, {reach, 0, i * cell}, i == 0 ? kMain : kGrid);
        addLine(scene, {i * cell, 0, -reach}, {i * cell, 0, reach}, i == 0 ? kMain : kGrid);
    }
}

}  // namespace

SceneVertex sceneVertex(const Vector3d& p, const QColor& c, float alpha) {
    return {float(p.x()), float(p.y()), float(p.z()), float(c.redF()), float(c.greenF()), float(c.blueF()), alpha};
}

Vector3d SceneGeometry::placeOf(std::size_t point) const { return {cloud[point].x, cloud[point].y, cloud[point].z}; }

SceneGeometry geometryOf(const Shot& shot, const ColourOfTrack& colourOf) {
    SceneGeometry scene;
    if (!shot.solve) return scene;
    const Solve& solved = *shot.solve;
    const Orientation orientation = orientationOf(shot);
    for (const SolvedFrame& frame : solved.frames) {
        const Vector3d place = orientation.apply(Vector3d(frame.worldFromCamera.translation()));
        scene.path.push_back(sceneVertex(place, theme::kBrass));
        scene.eye += place / double(solved.frames.size());
    }
    scene.travels = solved.motion == CameraMotion::travelling;
    std::vector<double> distances;
    for (const SolvedTrack& track : solved.tracks) {
        if (track.role == TrackRole::disagreed || (scene.travels ? !track.xyz : !track.direction)) continue;
        const Vector3d place = scene.travels
                                   ? orientation.apply(*track.xyz)
                                   : Vector3d(scene.eye + kSphere * (orientation.rotation * *track.direction));
        scene.cloud.push_back(sceneVertex(place, colourOf(track)));
        scene.tracks.push_back(track.track);
        distances.push_back((place - scene.eye).norm());
    }
    if (!distances.empty()) scene.size = std::max(1e-3, medianOf(std::move(distances)));
    for (const ShotObject& object : shot.objects)
        if (object.solve && scene.travels) addWay(scene, *object.solve, orientation);
    if (scene.travels) addGround(scene, isInMetres(shot));
    else addSphere(scene);
    return scene;
}

void placeObjects(SceneGeometry& scene, const Shot& shot, int frame) {
    scene.objects.clear();
    if (!shot.solve || !scene.travels) return;
    const Orientation orientation = orientationOf(shot);
    for (const ShotObject& object : shot.objects) {
        const ObjectFrame* on = object.solve ? objectFrameAt(*object.solve, frame) : nullptr;
        if (!on) continue;
        for (const ObjectPoint& point : object.solve->points)
            scene.objects.push_back(
                sceneVertex(orientation.apply(Vector3d(on->worldFromObject * point.xyz)), theme::kSand));
    }
}

void placeStandIns(SceneGeometry& scene, const Shot& shot, int frame,
                   const std::function<bool(StandInId, int skin)>& hasPicture) {
    scene.solids.clear();
    scene.pictured.clear();
    scene.wires.clear();
    if (!shot.solve || !scene.travels) return;
    const Orientation orientation = orientationOf(shot);
    const SolvedFrame* camera = solvedFrameAt(*shot.solve, frame);
    const auto stanceOf = [&](const StandIn& one) {
        return camera ? one.at(frame, orientation.apply(Vector3d(camera->worldFromCamera.translation())))
                      : one.at(frame);
    };
    const Vector3d sun = shot.scene.sun.towards.normalized();
    const QColor edge(40, 40, 40);
    for (const StandIn& one : sceneInWorld(shot).standIns) {
        if (one.hidden || !one.isOn(frame) || one.kind == StandInKind::locator) continue;
        const Eigen::Affine3d world = stanceOf(one).worldFromUnit();
        // A mesh that has not been read yet would hold the window up, as would a large one.
        constexpr std::size_t kMost = 200000;
        auto mesh = one.kind == StandInKind::mesh ? knownMesh(one.file) : unitMesh(one.kind, 24);
        if (!mesh || mesh->triangles.size() > kMost) mesh = unitMesh(StandInKind::box);
        const auto placeOf = [&](std::uint32_t corner) -> Vector3d {
            return world * mesh->places[corner].cast<double>();
        };
        const bool isDrawn = !one.catchesOnly && !one.hides && one.kind != StandInKind::grid;
        // The triangles of each picture lie together; 0 is what the stand-in itself shows, which a mesh does not.
        const std::size_t skins =
            mesh->pictureOf.empty() ? 0 : *std::max_element(mesh->pictureOf.begin(), mesh->pictureOf.end());
        std::vector<SceneGeometry::Pictured> pictured(1 + skins);
        std::vector<char> has(1 + skins, 0);
        for (std::size_t skin = 0; skin <= skins; ++skin) {
            pictured[skin] = {one.id, int(skin), {}};
            has[skin] = isDrawn && !mesh->sheet.empty() && (skin > 0 || one.kind != StandInKind::mesh) &&
                        hasPicture(one.id, int(skin));
        }
        if (isDrawn)
            for (std::size_t t = 0; t < mesh->triangles.size(); ++t) {
                const Mesh::Triangle& triangle = mesh->triangles[t];
                const std::size_t skin = mesh->pictureOf.empty() ? 0 : mesh->pictureOf[t];
                const std::array corners{placeOf(triangle[0]), placeOf(triangle[1]), placeOf(triangle[2])};
                const Vector3d normal = (corners[1] - corners[0]).cross(corners[2] - corners[0]).normalized();
                const double light = 0.45 + 0.55 * std::abs(normal.dot(sun));
                for (std::size_t k = 0; k < 3; ++k) {
                    if (has[skin]) {
                        SceneVertex vertex = sceneVertex(corners[k], QColor(), float(one.opacity));
                        vertex.r = mesh->sheet[triangle[k]].x();
                        vertex.g = mesh->sheet[triangle[k]].y();
                        vertex.b = float(light);
                        pictured[skin].triangles.push_back(vertex);
                        continue;
                    }
                    const auto tone = [&](int c) {
                        const double own = mesh->colours.empty() ? one.colour[std::size_t(c)]
                                                                 : double(encodeSrgb(mesh->colours[triangle[k]][c]));
                        return float(std::clamp(own * light, 0.0, 1.0));
                    };
                    const QColor colour = QColor::fromRgbF(tone(0), tone(1), tone(2));
                    scene.solids.push_back(sceneVertex(corners[k], colour, float(one.opacity)));
                }
            }
        for (SceneGeometry::Pictured& part : pictured)
            if (!part.triangles.empty()) scene.pictured.push_back(std::move(part));
        for (const Mesh::Edge& line : mesh->edges)
            if (line.isSharp)
                for (const std::uint32_t end : line.ends)
                    scene.wires.push_back(sceneVertex(placeOf(end), isDrawn ? edge : theme::kSlate));
    }
}

SceneGeometry geometryOf(const SolveView& view) {
    SceneGeometry scene;
    if (view.frames.empty() || view.points.empty()) return scene;
    Vector3d up = Vector3d::Zero(), eye = Vector3d::Zero();
    for (const SolvedFrame& frame : view.frames) {
        up += frame.worldFromCamera.linear().col(1);
        eye += Vector3d(frame.worldFromCamera.translation()) / double(view.frames.size());
    }
    std::vector<double> distances;
    for (const Vector3d& point : view.points) distances.push_back((point - eye).norm());
    const double scale = kSphere / std::max(1e-9, medianOf(std::move(distances)));
    const Eigen::Quaterniond turn =
        Eigen::Quaterniond::FromTwoVectors(up.norm() > 1e-9 ? up.normalized() : Vector3d(0, 1, 0), Vector3d::UnitY());
    const auto placed = [&](const Vector3d& p) -> Vector3d { return scale * (turn * (p - eye)); };
    for (const Vector3d& point : view.points)
        if ((point - eye).norm() * scale < 12 * kSphere)
            scene.cloud.push_back(sceneVertex(placed(point), QColor(150, 150, 150)));
    for (const SolvedFrame& frame : view.frames)
        scene.path.push_back(sceneVertex(placed(frame.worldFromCamera.translation()), theme::kBrass));
    scene.size = kSphere;
    return scene;
}

}  // namespace pinion
