#include "render/scenerender.h"
#include "render/throwing.h"
#include "shot/layers/layers.h"
#include "shot/stages/worldstage.h"

#include <mutex>

namespace pinion {
namespace {

/// A picture of one frame, or pictures of several, thrown on to the ground or a stand-in and seen by
/// the shot's camera.
class ThrownSource : public LayerSource {
public:
    ThrownSource(std::shared_ptr<const Solve> solve, const Orientation& orientation, ThrownOn onto, Clip clip,
                 std::vector<int> from)
        : solve_(std::move(solve)),
          orientation_(orientation),
          onto_(std::move(onto)),
          clip_(std::move(clip)),
          from_(std::move(from)) {}

    Layer laid(const LayerWish& wish, ArtShelf& shelf, std::vector<std::string>* problems) const override {
        const auto eye = WorldEye::of(*solve_, orientation_, wish.frame);
        if (!eye) return {};
        const auto projector = projectorFor(shelf, problems);
        if (!projector) return {};
        return projector->on(*eye, wish.frame, boxOn(wish.frame, wish.width, wish.height), wish.linear);
    }
    PixelBox boxOn(int frame, int width, int height) const override {
        const auto eye = WorldEye::of(*solve_, orientation_, frame);
        if (!eye) return {};
        if (!onto_.standIn) return {0, 0, width, height};
        SceneLook alone;
        alone.standIns = std::vector<StandIn>{*onto_.standIn};
        alone.groundCatches = false;
        return boxOfScene(alone, *eye, frame, width, height);
    }

private:
    /// Made again when its file shows something else.
    std::shared_ptr<const Projector> projectorFor(ArtShelf& shelf, std::vector<std::string>* problems) const {
        auto thrown = picturesThrown(clip_, from_, *solve_, orientation_, shelf);
        if (!thrown) {
            noteOnce(problems, thrown.error().message);
            return nullptr;
        }
        std::vector<std::shared_ptr<const Art>> of;
        for (const ThrownPicture& one : *thrown) of.push_back(one.art);
        const std::lock_guard lock(mutex_);
        if (projector_ && of_ == of) return projector_;
        of_ = std::move(of);
        projector_ =
            std::make_shared<const Projector>(*std::move(thrown), onto_, solve_->lens.width, solve_->lens.height);
        return projector_;
    }

    std::shared_ptr<const Solve> solve_;
    Orientation orientation_;
    ThrownOn onto_;
    Clip clip_;
    std::vector<int> from_;
    mutable std::mutex mutex_;
    mutable std::vector<std::shared_ptr<const Art>> of_;
    mutable std::shared_ptr<const Projector> projector_;
};

void makeThrownLayer(const Shot& shot, InsertScene::One& one, std::vector<std::string>& notes) {
    const Insert& insert = one.insert;
    const auto refuse = [&](const std::string& why) { notes.push_back(fmt::format("{}: {}", insert.name, why)); };
    if (!shot.solve) return refuse("there is no camera yet; solve it first");
    const Clip* clip = findClip(shot, insert.clip);
    if (!clip) return refuse("its picture is gone from the clips");
    ThrownOn onto;
    onto.at.y() = shot.scene.ground;
    if (insert.of != 0) {
        const SceneLook look = sceneInWorld(shot);
        for (const StandIn& standIn : look.standIns)
            if (standIn.id == insert.of) onto.standIn = standIn;
        if (!onto.standIn) return refuse("what it is thrown on is gone");
    }
    std::vector<int> from = insert.thrownFrom.vector();
    if (from.empty()) from.push_back(insert.time.start);
    const Orientation orientation = orientationOf(shot);
    if (const auto checked = checkThrow(onto, from, *shot.solve, orientation); !checked)
        return refuse(checked.error().message);
    one.source = std::make_shared<const ThrownSource>(shot.solve, orientation, std::move(onto), *clip, std::move(from));
}

}  // namespace

LayerKind thrownLayer() {
    return {.word = kThrownLayer,
            .make = makeThrownLayer,
            .addKey = [](Fingerprint& print, const Shot& shot, const Insert& insert) {
                addWorld(print, shot);
                print.add(shot.scene.ground);
                if (insert.of == 0) return;
                addScene(print, shot);
                addObjects(print, shot);
            }};
}

}  // namespace pinion
