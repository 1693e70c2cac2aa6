#include "comp/composing.h"

#include "matte/coverage.h"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>

namespace pinion {
namespace {

/// Coverages of one frame, for inserts that share their mattes.
using Covers = std::map<std::vector<MatteId>, ImageChannel>;

const ImageChannel& coverOf(const std::vector<Matte>& mattes, int frame, const InsertScene& scene, Covers& covers) {
    std::vector<MatteId> ids;
    for (const Matte& matte : mattes) ids.push_back(matte.id);
    auto found = covers.find(ids);
    if (found == covers.end()) found = covers.emplace(ids, coverageOf(mattes, frame, scene.width, scene.height)).first;
    return found->second;
}

Layer made(const InsertScene& scene, const InsertScene::One& one, int frame, const Picture& plate, ArtShelf& shelf,
           std::vector<std::string>* problems, Covers& covers) {
    const Insert& insert = one.insert;
    const double opacity = opacityAt(insert, frame) * one.source->shareOn(frame);
    if (opacity <= 0) return {};
    const int margin = reachOf(insert.look.blur_px);
    Layer layer =
        one.source->laid({frame, scene.width, scene.height, scene.fps, plate.linear, margin}, shelf, problems);
    if (layer.isEmpty()) return {};
    gradeLayer(layer, insert.look.grade);
    blurLayer(layer, insert.look.blur_px, scene.width, scene.height, margin);
    cropLayer(layer, scene.width, scene.height);
    if (!one.within.empty()) maskLayer(layer, coverOf(one.within, frame, scene, covers), true);
    if (!one.heldOut.empty()) maskLayer(layer, coverOf(one.heldOut, frame, scene, covers));
    wrapLight(layer, plate, insert.look.wrap);
    fadeLayer(layer, opacity);
    return layer;
}

}  // namespace

Layer layerOf(const InsertScene& scene, const InsertScene::One& one, int frame, const Picture& plate, ArtShelf& shelf,
              std::vector<std::string>* problems) {
    Covers covers;
    return made(scene, one, frame, plate, shelf, problems, covers);
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
            noteOnce(problems,
                     fmt::format("{}: {} mixes with the plate, which is not there: alone it is laid over; set the "
                                 "blend where it is put together",
                                 one.insert.name, toString(one.insert.look.blend)));
        alone.add(made(scene, one, frame, plate, shelf, problems, covers));
    }
    return alone;
}

PixelBox touchedBy(const InsertScene& scene, int frame) {
    PixelBox touched;
    for (const InsertScene::One& one : scene.inserts) {
        if (opacityAt(one.insert, frame) * one.source->shareOn(frame) <= 0) continue;
        PixelBox box = one.source->boxOn(frame, scene.width, scene.height);
        if (box.width() <= 0 || box.height() <= 0) continue;
        const int reach = reachOf(one.insert.look.blur_px);
        box = {std::max(0, box.x0 - reach), std::max(0, box.y0 - reach), std::min(scene.width, box.x1 + reach),
               std::min(scene.height, box.y1 + reach)};
        touched = touched == PixelBox{} ? box
                                        : PixelBox{std::min(touched.x0, box.x0), std::min(touched.y0, box.y0),
                                                   std::max(touched.x1, box.x1), std::max(touched.y1, box.y1)};
    }
    return touched.width() > 0 && touched.height() > 0 ? touched : PixelBox{};
}

}  // namespace pinion
