// pinion-demo: renders the Ternholm footage and writes its truth beside it.

#include "base/files.h"
#include "base/parallel.h"
#include "exchange/formats.h"
#include "plate/videowriter.h"
#include "chart.h"
#include "deckhand.h"
#include "artwork.h"
#include "painted.h"
#include "render.h"
#include "shots.h"

#include <CLI/CLI.hpp>
#include <OpenImageIO/imageio.h>
#include <cmath>
#include <filesystem>
#include <nlohmann/json.hpp>
#include <opencv2/imgproc.hpp>

namespace {

using namespace ternholm;
using nlohmann::json;
using pinion::Lens;
namespace fs = std::filesystem;

struct TruthPoint {
    std::string name;
    Vector3f place;
    Vector3f normal;
    int seenFrom;  ///< the frame it was chosen on, from 0
};

struct Picked {
    std::vector<TruthPoint> points;
    std::map<std::string, int> count;
};

/// Picks what a feature finder likes in a rendered frame and casts it back into the scene, so that the place is exact.
/// Points near an edge of the surface are left out: what a tracker sees there is no single place.
void pickPoints(const Renderer& renderer, const Scene& scene, const Lens& lens, const std::vector<std::uint8_t>& rgb,
                const Eigen::Affine3f& pose, int frame, Picked& picked) {
    cv::Mat colour(lens.height, lens.width, CV_8UC3, const_cast<std::uint8_t*>(rgb.data()));
    cv::Mat grey;
    cv::cvtColor(colour, grey, cv::COLOR_RGB2GRAY);
    std::vector<cv::Point2f> corners;
    cv::goodFeaturesToTrack(grey, corners, 260, 0.02, 22 * lens.width / 1280.0, cv::noArray(), 5);
    const auto castAt = [&](double x, double y) -> std::optional<Hit> {
        const auto plane = pinion::planeFromPlate(lens, {x, y});
        if (!plane) return std::nullopt;
        return renderer.cast(pose.translation(), pose.linear() * Vector3f(float(plane->x()), float(-plane->y()), -1));
    };
    for (const cv::Point2f& corner : corners) {
        const double x = corner.x + 0.5;
        const double y = corner.y + 0.5;
        if (x < 30 || y < 30 || x > lens.width - 30 || y > lens.height - 30) continue;
        const auto hit = castAt(x, y);
        if (!hit) continue;
        const std::string& object = scene.objects[std::size_t(hit->triangle->object)];
        if (object == "water" || object == "trolley" || object == "shore") continue;
        bool flat = true;
        for (const auto& [dx, dy] :
             {std::pair{-13, 0}, {13, 0}, {0, -13}, {0, 13}, {-11, -11}, {11, -11}, {-11, 11}, {11, 11}}) {
            const auto near = castAt(x + dx, y + dy);
            flat = flat && near && near->triangle->object == hit->triangle->object &&
                   near->normal.dot(hit->normal) > 0.999F &&
                   std::abs((near->place - hit->place).dot(hit->normal)) < 0.005F;
        }
        if (!flat) continue;
        bool known = false;
        for (const TruthPoint& point : picked.points) known = known || (point.place - hit->place).norm() < 0.06F;
        if (known) continue;
        picked.points.push_back({fmt::format("{}-{}", object, ++picked.count[object]), hit->place, hit->normal, frame});
    }
}

json rounded(double value, double step) { return std::round(value / step) * step; }

json matrixJson(const Eigen::Affine3d& pose) {
    json rows = json::array();
    for (int r = 0; r < 4; ++r)
        for (int c = 0; c < 4; ++c) rows.push_back(pose.matrix()(r, c));
    return rows;
}

std::optional<Eigen::Vector2d> projected(const Lens& lens, const Eigen::Affine3d& pose, const Eigen::Vector3d& place) {
    const Eigen::Vector3d seen = pose.inverse() * place;
    if (seen.z() > -0.05) return std::nullopt;
    return pinion::plateFromPlane(lens, {seen.x() / -seen.z(), seen.y() / seen.z()});
}

json trolleyOutline(const Scene& scene, const Lens& lens, const Eigen::Affine3d& pose, const Eigen::Affine3d& trolley) {
    std::vector<cv::Point2f> points;
    for (const Triangle& triangle : scene.trolley)
        for (const Vector3f& corner : triangle.corner)
            if (const auto at = projected(lens, pose, trolley * corner.cast<double>()))
                points.emplace_back(float(at->x()), float(at->y()));
    std::vector<cv::Point2f> hull;
    if (!points.empty()) cv::convexHull(points, hull);
    json outline = json::array();
    for (const auto& p : hull) outline.push_back({rounded(p.x, 0.01), rounded(p.y, 0.01)});
    return outline;
}

/// Where the marked places are on each frame, in pixels, and whether nothing is before them.
json markedJson(const Renderer& renderer, const DemoShot& shot, const ShotSize& size) {
    const std::vector<Vector3f> places = shot.marked();
    json marked{{"xyz", json::array()}, {"frames", json::array()}};
    for (const Vector3f& place : places) marked["xyz"].push_back({place.x(), place.y(), place.z()});
    for (int frame = 0; frame < size.frames; ++frame) {
        const Eigen::Affine3d pose = shot.camera(size, frame);
        json row = json::array();
        for (const Vector3f& place : places) {
            const auto at = projected(shot.lens(size, frame), pose, place.cast<double>());
            const Vector3f eye = pose.translation().cast<float>();
            const auto hit = renderer.cast(eye, place - eye);
            const bool visible = hit && hit->distance > 0.995F;
            if (at) row.push_back({rounded(at->x(), 1e-4), rounded(at->y(), 1e-4), visible ? 1 : 0});
            else row.push_back(nullptr);
        }
        marked["frames"].push_back({{"frame", 1001 + frame}, {"places", row}});
    }
    return marked;
}

int run(const DemoShot& shot, const std::string& out, const ShotSize& size, int samples, int quality, int only,
        double shutter) {
    const Scene scene = shot.scene();
    const Lens lens = shot.lens(size, 0);
    Renderer renderer(scene, lens);
    const bool sequence = out.find('#') != std::string::npos;
    const auto openedFrame = [&](int frame) {
        renderer.setTrolley(shot.trolley(size, frame - shutter / 2).cast<float>(),
                            shot.trolley(size, frame + shutter / 2).cast<float>());
        if (shot.zoom) renderer.setLens(shot.lens(size, frame));
        const auto posesOf = [&](int row) {
            const double later = shot.readout * ((row + 0.5) / size.height - 0.5);
            std::vector<Eigen::Affine3f> poses;
            for (int s = 0; s < samples; ++s)
                poses.push_back(shot.camera(size, frame + later + shutter * ((s + 0.5) / samples - 0.5)).cast<float>());
            return poses;
        };
        return renderer.frame(posesOf, float(frame / size.fps), std::uint32_t(frame + 1));
    };
    const auto writePicture = [&](const std::string& path, const std::vector<std::uint8_t>& rgb) {
        const auto output = OIIO::ImageOutput::create(path);
        return output && output->open(path, OIIO::ImageSpec(size.width, size.height, 3, OIIO::TypeDesc::UINT8)) &&
               output->write_image(OIIO::TypeDesc::UINT8, rgb.data()) && output->close();
    };
    if (only >= 0) return writePicture(out, openedFrame(only)) ? 0 : 1;

    std::unique_ptr<pinion::VideoWriter> video;
    if (!sequence) {
        auto created = pinion::VideoWriter::create(out, size.width, size.height, pinion::frameRateNear(size.fps),
                                                   {.quality = quality, .small = true});
        if (!created) {
            fmt::print(stderr, "{}\n", created.error().message);
            return 1;
        }
        video = std::move(*created);
    }
    Picked picked;
    for (int frame = 0; frame < size.frames; ++frame) {
        const auto rgb = openedFrame(frame);
        if (video) {
            if (const auto written = video->write(rgb); !written) {
                fmt::print(stderr, "{}\n", written.error().message);
                return 1;
            }
        } else {
            const auto hash = out.find('#');
            const auto last = out.find_last_of('#');
            if (!writePicture(fmt::format("{}{:0{}d}{}", out.substr(0, hash), 1001 + frame, last - hash + 1,
                                          out.substr(last + 1)),
                              rgb))
                return 1;
        }
        if (frame % std::max(1, size.frames / 6) == 0 || frame == size.frames - 1)
            pickPoints(renderer, scene, shot.lens(size, frame), rgb, shot.camera(size, frame).cast<float>(), frame,
                       picked);
        fmt::print(stderr, "frame {} of {}\n", frame + 1, size.frames);
    }
    if (video)
        if (const auto finished = video->finish(); !finished) {
            fmt::print(stderr, "{}\n", finished.error().message);
            return 1;
        }

    json truth{
        {"format", "pinion.truth"}, {"version", 1},        {"width", size.width},     {"height", size.height},
        {"fps", size.fps},          {"first_frame", 1001}, {"sensor_width_mm", 36.0}, {"focal_mm", shot.focal_mm}};
    truth["lens"] = json::parse(pinion::lensJson(lens));
    if (shot.readout != 0) truth["readout"] = shot.readout;
    truth["frames"] = json::array();
    std::vector<json> samplesOf(picked.points.size(), json::array());
    for (int frame = 0; frame < size.frames; ++frame) {
        const Eigen::Affine3d pose = shot.camera(size, frame);
        const Eigen::Affine3d trolley = shot.trolley(size, frame);
        truth["frames"].push_back({{"frame", 1001 + frame},
                                   {"world_from_camera", matrixJson(pose)},
                                   {"world_from_intended", matrixJson(shot.intended(size, frame))},
                                   {"trolley", trolleyOutline(scene, shot.lens(size, frame), pose, trolley)}});
        if (!scene.trolley.empty()) truth["frames"].back()["world_from_trolley"] = matrixJson(trolley);
        const Lens own = shot.lens(size, frame);
        if (shot.zoom) {
            truth["frames"].back()["focal_px"] = own.focal_px;
            truth["frames"].back()["k1"] = own.k1;
        }
        renderer.setTrolley(trolley.cast<float>(), trolley.cast<float>());
        for (std::size_t i = 0; i < picked.points.size(); ++i) {
            const TruthPoint& point = picked.points[i];
            const auto at = projected(own, pose, point.place.cast<double>());
            if (!at || at->x() < 0 || at->y() < 0 || at->x() > size.width || at->y() > size.height) continue;
            const Vector3f eye = pose.translation().cast<float>();
            const Vector3f towards = point.place - eye;
            const auto hit = renderer.cast(eye, towards);
            const bool visible = hit && hit->distance > 0.999F && point.normal.dot(towards) < 0;
            samplesOf[i].push_back({1001 + frame, rounded(at->x(), 1e-4), rounded(at->y(), 1e-4), visible ? 1 : 0});
        }
    }
    if (shot.marked) truth["marked"] = markedJson(renderer, shot, size);
    truth["points"] = json::array();
    for (std::size_t i = 0; i < picked.points.size(); ++i) {
        const TruthPoint& point = picked.points[i];
        truth["points"].push_back({{"name", point.name},
                                   {"chosen_on", 1001 + point.seenFrom},
                                   {"xyz", {point.place.x(), point.place.y(), point.place.z()}},
                                   {"samples", samplesOf[i]}});
    }
    const fs::path beside = fs::path(out).parent_path() / (fs::path(out).stem().stem().string() + ".truth.json");
    if (const auto written = pinion::writeFile(beside, truth.dump()); !written) {
        fmt::print(stderr, "{}\n", written.error().message);
        return 1;
    }
    fmt::print("{} frames, {} truth points: {}\n", size.frames, picked.points.size(), out);
    return 0;
}

}  // namespace

int main(int argc, char** argv) {
    CLI::App app{"Renders the Ternholm demo footage with its truth."};
    std::string name = "landing";
    std::string out;
    std::string sizeText = "1280x720";
    ShotSize size;
    int samples = 16;
    int quality = 19;
    int only = -1;
    double shutter = 0.5;
    size.frames = 0;
    app.add_option(
        "--shot", name,
        "landing, mooring, breakwater, pan, zoom, board, bollard, ferry, van, telephone, chart (stills; --out is their "
        "folder), "
        "painted (a patch for the mooring.mp4 that is here), timetable (a picture for the board), "
        "deckhand (a clip before a green cloth) or lamp (a clip with alpha; --out is its folder)");
    app.add_option(
        "--out", out,
        "a video (SHOT.mp4 by default), or a sequence (name.####.png); the truth goes beside it as .truth.json");
    app.add_option("--size", sizeText, "WxH");
    app.add_option("--frames", size.frames, "length; the move takes as long. The shot's own by default")
        ->check(CLI::Range(1, 100000));
    app.add_option("--samples", samples, "rays a pixel")->check(CLI::Range(1, 1024));
    app.add_option("--quality", quality, "of the video: 0 lossless to 51")->check(CLI::Range(0, 51));
    app.add_option("--only", only, "render this one frame (from 0) to a picture");
    app.add_option("--shutter", shutter, "the part of a frame's time that the shutter is open")
        ->check(CLI::Range(0.0, 1.0));
    CLI11_PARSE(app, argc, argv);
    if (std::sscanf(sizeText.c_str(), "%dx%d", &size.width, &size.height) != 2 || size.width < 16 || size.height < 16 ||
        size.width % 2 || size.height % 2) {
        fmt::print(stderr, "--size {}: write WxH, both even, as in 1280x720\n", sizeText);
        return 2;
    }
    if (name == "painted") {
        if (paintHouseOut("mooring.mp4", 1001, out.empty() ? "mooring.painted.png" : out)) return 0;
        fmt::print(stderr, "mooring.mp4 is not here, or the picture cannot be written\n");
        return 1;
    }
    if (name == "timetable") {
        if (drawTimetable(out.empty() ? "timetable.png" : out)) return 0;
        fmt::print(stderr, "{}: the timetable cannot be written there\n", out);
        return 1;
    }
    if (name == "lamp") {
        if (drawLamp(out.empty() ? "lamp" : out)) return 0;
        fmt::print(stderr, "{}: the lamp cannot be written there\n", out);
        return 1;
    }
    if (name == "deckhand") {
        if (filmDeckhand(out.empty() ? "deckhand.mp4" : out)) return 0;
        fmt::print(stderr, "{}: the deckhand cannot be written there\n", out);
        return 1;
    }
    if (name == "chart") {
        if (renderCharts(out.empty() ? "chart" : out, size, samples)) return 0;
        fmt::print(stderr, "{}: the charts cannot be written there\n", out);
        return 1;
    }
    const DemoShot* shot = demoShot(name);
    if (!shot) {
        fmt::print(stderr,
                   "--shot {}: write landing, mooring, breakwater, pan, zoom, board, bollard, ferry, van, telephone or "
                   "chart\n",
                   name);
        return 2;
    }
    if (size.frames == 0) size.frames = shot->frames;
    size.fps = shot->fps;
    if (out.empty()) out = name + ".mp4";
    return run(*shot, out, size, samples, quality, only, shutter);
}
