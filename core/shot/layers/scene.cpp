#include "render/scenerender.h"
#include "shot/layers/layers.h"
#include "shot/stages/worldstage.h"

#include <mutex>
#include <optional>

namespace pinion {
namespace {

constexpr int kSamples = 64;  // rays through a pixel at an edge, of what is rendered

/// Stand-ins seen by the shot's camera. What it takes to show them (meshes, pictures of boards and grids) is made when
/// it is first asked for a layer, which is not on the interface's thread.
class SceneSource : public LayerSource {
public:
    SceneSource(std::shared_ptr<const Solve> solve, const Orientation& orientation, SceneLook look, int samples)
        : solve_(std::move(solve)), orientation_(orientation), look_(std::move(look)), samples_(samples) {}

    Layer laid(const LayerWish& wish, ArtShelf& shelf, std::vector<std::string>* problems) const override {
        const auto eye = WorldEye::of(*solve_, orientation_, wish.frame);
        if (!eye) return {};
        const PixelBox box = boxOfScene(look_, *eye, wish.frame, wish.width, wish.height);
        if (box.width() <= 0 || box.height() <= 0) return {};
        return renderer()
            .frame(*eye, wish.frame,
                   {.box = box, .linear = wish.linear, .samples = samples_, .fps = wish.fps, .shelf = &shelf}, problems)
            .layer;
    }
    PixelBox boxOn(int frame, int width, int height) const override {
        const auto eye = WorldEye::of(*solve_, orientation_, frame);
        return eye ? boxOfScene(look_, *eye, frame, width, height) : PixelBox{};
    }
    std::vector<std::string> troubles() const { return renderer().troubles(); }

private:
    const SceneRenderer& renderer() const {
        std::call_once(once_, [this] { renderer_.emplace(look_); });
        return *renderer_;
    }

    std::shared_ptr<const Solve> solve_;
    Orientation orientation_;
    SceneLook look_;
    int samples_;
    mutable std::once_flag once_;
    mutable std::optional<SceneRenderer> renderer_;
};

void makeSceneLayer(const Shot& shot, InsertScene::One& one, std::vector<std::string>& notes) {
    if (!shot.solve) {
        notes.emplace_back("stand-ins: there is no camera yet; solve it first");
        return;
    }
    const auto source =
        std::make_shared<const SceneSource>(shot.solve, orientationOf(shot), sceneInWorld(shot), kSamples);
    one.source = source;
    for (const StandIn& standIn : shot.scene.standIns)
        if (const ShotObject* object = findObject(shot, standIn.carrier);
            standIn.carrier != 0 && !standIn.hidden && !(object && object->solve))
            notes.push_back(fmt::format("{}: what carries it {}", standIn.name,
                                        object ? "is not solved: solve " + object->name : "is gone"));
    for (std::string& trouble : source->troubles()) notes.push_back(std::move(trouble));
}

}  // namespace

std::shared_ptr<const LayerSource> sceneSource(const Shot& shot, const SceneLook& look, int samples) {
    return std::make_shared<const SceneSource>(shot.solve, orientationOf(shot), look, samples);
}

LayerKind sceneLayer() {
    return {
        .word = kSceneLayer, .make = makeSceneLayer, .addKey = [](Fingerprint& print, const Shot& shot, const Insert&) {
            addScene(print, shot);
            addWorld(print, shot);
            for (const StandIn& one : shot.scene.standIns)
                if (one.carrier != 0) {
                    addObjects(print, shot);
                    break;
                }
        }};
}

}  // namespace pinion
