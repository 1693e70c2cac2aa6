#include "comp/composing.h"

#include "matte/coverage.h"
#include "matte/sequence.h"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>

namespace pinion {
namespace {

/// Coverages of one frame, for inserts that share their mattes.
using Covers = std::map<std::vector<std::string>, Plane>;

void note(std::vector<std::string>* problems, std::string words) {
    if (problems && std::find(problems->begin(), problems->end(), words) == problems->end())
        problems->push_back(std::move(words));
}

std::shared_ptr<const Art> artOf(const InsertScene& scene, const InsertScene::One& one, int frame, bool linear,
                                 ArtShelf& shelf, std::vector<std::string>* problems) {
    const Insert& insert = one.insert;
    const Quad inside = placedInside(insert.placing, one.carrier->widthToHeight());
    const double ratio =
        one.carrier->widthToHeight() * (inside[1] - inside[0]).norm() / std::max(1e-6, (inside[3] - inside[0]).norm());
    if (insert.shows == Insert::Shows::test) return shelf.test(ratio, linear);
    if (insert.shows == Insert::Shows::colour) return shelf.plain(insert.colour, ratio, linear);
    if (!one.clip) {
        note(problems, fmt::format("{}: its clip is not in the list any more", insert.name));
        return nullptr;
    }
    const auto shown = clipFrameAt(insert.time, *one.clip, frame, scene.fps);
    if (!shown) return nullptr;
    auto art = shelf.art(*one.clip, *shown, linear, insert.key);
    if (art) return *art;
    note(problems, fmt::format("{}: {}", insert.name, art.error().message));
    // A broken frame is stood in for by its neighbours; a missing file has none.
    for (int away = 1; away <= 8 && shelf.open(*one.clip); ++away)
        for (const int other : {*shown - away, *shown + away})
            if (one.clip->frames.holds(other))
                if (const auto stands = shelf.art(*one.clip, other, linear, insert.key)) return *stands;
    return nullptr;
}

/// Where it lies, and how much of it is left while what carries it is not there.
std::vector<std::vector<ArtPiece>> placed(const InsertScene::One& one, int frame, double& left) {
    const Insert& insert = one.insert;
    left = 1;
    if (insert.lost == Insert::Lost::fades)
        left = std::max(0.0, 1 - one.carrier->away(frame) / double(std::max(1, insert.fadeFrames)));
    if (left <= 0) return {};
    return one.carrier->pieces(insert.placing, frame, insert.shutter, insert.lost != Insert::Lost::ends);
}

const Plane& coverOf(const std::vector<Matte>& mattes, int frame, const InsertScene& scene, Covers& covers) {
    std::vector<std::string> names;
    for (const Matte& matte : mattes) names.push_back(matte.name);
    auto found = covers.find(names);
    if (found == covers.end())
        found = covers.emplace(names, coverageOf(mattes, frame, scene.width, scene.height)).first;
    return found->second;
}

Layer made(const InsertScene& scene, const InsertScene::One& one, int frame, const Picture& plate, ArtShelf& shelf,
           std::vector<std::string>* problems, Covers& covers) {
    const Insert& insert = one.insert;
    const double opacity = opacityAt(insert, frame);
    double left = 1;
    if (opacity <= 0) return {};
    const auto pieces = placed(one, frame, left);
    if (pieces.empty()) return {};
    const auto art = artOf(scene, one, frame, plate.linear, shelf, problems);
    if (!art) return {};
    const int margin = reachOf(insert.look.blur_px);
    Layer layer = art->laid(pieces, scene.width, scene.height, insert.shape, margin);
    gradeLayer(layer, insert.look.grade);
    blurLayer(layer, insert.look.blur_px, scene.width, scene.height, margin);
    cropLayer(layer, scene.width, scene.height);
    if (!one.within.empty()) maskLayer(layer, coverOf(one.within, frame, scene, covers), true);
    if (!one.heldOut.empty()) maskLayer(layer, coverOf(one.heldOut, frame, scene, covers));
    wrapLight(layer, plate, insert.look.wrap);
    fadeLayer(layer, opacity * left);
    return layer;
}

}  // namespace

InsertScene InsertScene::of(std::span<const Insert> inserts, std::span<const Clip> clips, std::span<const Matte> mattes,
                            const Carriers& carriers, int width, int height, FrameRate fps) {
    InsertScene scene{{}, width, height, fps, {}};
    std::map<std::string, Matte> carried;  // by name, each carried once
    const auto named = [&](const Insert& insert, const List<std::string>& names) {
        std::vector<Matte> found;
        for (const std::string& name : names) {
            const auto matte =
                std::find_if(mattes.begin(), mattes.end(), [&](const Matte& one) { return one.name == name; });
            if (matte == mattes.end()) {
                scene.notes.push_back(fmt::format("{}: there is no matte {} any more", insert.name, name));
                continue;
            }
            for (const std::string& trouble : pictureTroubles({&*matte, 1}, carriers.range, width, height))
                if (!std::count(scene.notes.begin(), scene.notes.end(), trouble)) scene.notes.push_back(trouble);
            if (!carried.contains(name))
                if (auto ridden = pinion::ridden({*matte}, carriers, carriers.range, &scene.notes))
                    carried.emplace(name, ridden->front());
            if (carried.contains(name)) found.push_back(carried.at(name));
        }
        return found;
    };
    for (const Insert& insert : inserts) {
        if (insert.hidden) continue;
        One one{insert, std::nullopt, nullptr, named(insert, insert.heldOut), named(insert, insert.within)};
        for (const Clip& clip : clips)
            if (clip.id == insert.clip) one.clip = clip;
        one.carrier = std::make_shared<const Carrier>(insert, carriers);
        if (!one.carrier->problem().empty())
            scene.notes.push_back(fmt::format("{}: {}", insert.name, one.carrier->problem()));
        scene.inserts.push_back(std::move(one));
    }
    return scene;
}

Layer layerOf(const InsertScene& scene, const InsertScene::One& one, int frame, const Picture& plate, ArtShelf& shelf,
              std::vector<std::string>* problems) {
    Covers covers;
    return made(scene, one, frame, plate, shelf, problems, covers);
}

Layer bareLayerOf(const InsertScene& scene, const InsertScene::One& one, int frame, bool linear, ArtShelf& shelf) {
    double left = 1;
    const auto pieces = placed(one, frame, left);
    const auto art = pieces.empty() ? nullptr : artOf(scene, one, frame, linear, shelf, nullptr);
    return art ? art->laid(std::span(&pieces[pieces.size() / 2], 1), scene.width, scene.height, one.insert.shape)
               : Layer{};
}

Picture composed(const InsertScene& scene, int frame, const Picture& plate, ArtShelf& shelf,
                 std::vector<std::string>* problems) {
    Picture result = plate;
    Covers covers;
    for (const InsertScene::One& one : scene.inserts) {
        const Layer layer = made(scene, one, frame, result, shelf, problems, covers);
        lay(result, layer, one.insert.look.blend);
    }
    return result;
}

InsertAlone composedAlone(const InsertScene& scene, int frame, const Picture& plate, ArtShelf& shelf,
                          std::vector<std::string>* problems) {
    InsertAlone alone(scene.width, scene.height, plate.linear);
    Covers covers;
    for (const InsertScene::One& one : scene.inserts) {
        if (one.insert.look.blend != Blend::over)
            note(problems,
                 fmt::format("{}: {} mixes with the plate, which is not there: alone it is laid over; set the "
                             "blend where it is put together",
                             one.insert.name, toString(one.insert.look.blend)));
        alone.add(made(scene, one, frame, plate, shelf, problems, covers));
    }
    return alone;
}

PixelBox touchedBy(const InsertScene& scene, int frame) {
    double x0 = 1e9, y0 = 1e9, x1 = -1e9, y1 = -1e9;
    for (const InsertScene::One& one : scene.inserts) {
        double left = 1;
        if (opacityAt(one.insert, frame) <= 0) continue;
        const int reach = reachOf(one.insert.look.blur_px) + 1;
        for (const auto& pieces : placed(one, frame, left))
            for (const ArtPiece& piece : pieces)
                for (const Eigen::Vector2d& corner : piece.corners) {
                    x0 = std::min(x0, corner.x() - reach);
                    y0 = std::min(y0, corner.y() - reach);
                    x1 = std::max(x1, corner.x() + reach);
                    y1 = std::max(y1, corner.y() + reach);
                }
    }
    const auto within = [](double value, int most) { return int(std::clamp(value, 0.0, double(most))); };
    const PixelBox box{within(std::floor(x0), scene.width), within(std::floor(y0), scene.height),
                       within(std::ceil(x1), scene.width), within(std::ceil(y1), scene.height)};
    return box.width() > 0 && box.height() > 0 ? box : PixelBox{};
}

}  // namespace pinion
