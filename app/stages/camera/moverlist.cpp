#include "stages/camera/moverlist.h"

#include "shot/objects.h"
#include "stages/camera/camerastage.h"
#include "stages/shotform.h"

#include <algorithm>
#include <array>
#include <set>

namespace pinion {
namespace {

class MoverList : public ShotForm {
public:
    MoverList(Session& session, CameraStage& stage) : ShotForm(session), stage_(stage) {
        addMovers();
        addTold();
        refresh();
    }

private:
    /// Its tracks that the shot still has; none where all are set aside.
    static std::vector<TrackId> tracksOf(const Shot& shot, const MovingTracks& mover) {
        std::vector<TrackId> tracks;
        bool counts = false;
        for (const TrackId id : mover.tracks)
            if (const Track* track = findTrack(shot, id)) {
                tracks.push_back(id);
                counts |= !track->setAside;
            }
        return counts ? tracks : std::vector<TrackId>{};
    }
    /// Most of them are an object's already.
    static bool isObject(const Shot& shot, const std::vector<TrackId>& tracks) {
        const auto on = tracksOnObjects(shot);
        const std::set<TrackId> taken(on.begin(), on.end());
        return 2 * std::count_if(tracks.begin(), tracks.end(), [&](TrackId id) { return taken.contains(id); }) >
               std::ptrdiff_t(tracks.size());
    }
    static bool hasMovers(const Shot& shot) {
        return shot.solve &&
               std::any_of(shot.solve->movers.begin(), shot.solve->movers.end(), [&](const MovingTracks& one) {
                   const auto tracks = tracksOf(shot, one);
                   return !tracks.empty() && !isObject(shot, tracks);
               });
    }

    std::size_t held() const { return std::size_t(std::max(0, movers_->currentData().toInt())); }
    std::vector<TrackId> heldTracks() const {
        const Shot& shot = session_.shot();
        return shot.solve && held() < shot.solve->movers.size() ? tracksOf(shot, shot.solve->movers[held()])
                                                                : std::vector<TrackId>{};
    }

    void addMovers() {
        auto* title = dimLabel("Moves as one thing");
        movers_ =
            named(cutShort(new QComboBox), "movers", "What the solve told apart from the scene, the largest first");
        movers_->setAccessibleName("Things that move");
        wide(title);
        wide(movers_);
        auto* choose = named(new QPushButton("Choose"), "moverChoose", "Choose its tracks");
        auto* mask = named(new QPushButton("Mask"), "moverMask",
                           "A matte about its tracks that goes with them; what it covers no longer counts");
        auto* stands = named(new QPushButton("It stands"), "moverStands",
                             "These tracks are the scene's: solve for the camera that sees them stand still");
        auto* object = named(new QPushButton("As an object"), "moverObject",
                             "Solve its own motion against the camera; its tracks no longer count for that");
        auto* buttons = new QWidget;
        auto* rows = new QVBoxLayout(buttons);
        rows->setContentsMargins(0, 0, 0, 0);
        rows->setSpacing(4);
        rows->addWidget(buttonRow({choose, mask, stands}));
        rows->addWidget(buttonRow({object}));
        wide(buttons);
        onClick(object, [this] { stage_.addObject(heldTracks()); });
        onClick(choose, [this] {
            const auto tracks = heldTracks();
            session_.selection.set({tracks.begin(), tracks.end()});
        });
        onClick(mask, [this] { stage_.maskMover(held()); });
        onClick(stands, [this] { stage_.solveSceneOf(heldTracks()); });
        onRefresh([this, title, mask, stands, object, buttons] {
            const Shot& shot = session_.shot();
            const bool any = hasMovers(shot);
            for (QWidget* part : std::array<QWidget*, 3>{title, movers_, buttons}) part->setVisible(any);
            if (!any) return;
            const int before = movers_->currentData().toInt();
            movers_->clear();
            for (std::size_t i = 0; i < shot.solve->movers.size(); ++i) {
                const MovingTracks& one = shot.solve->movers[i];
                const auto tracks = tracksOf(shot, one);
                if (tracks.empty() || isObject(shot, tracks)) continue;
                movers_->addItem(
                    QString("%1 tracks, %2 to %3").arg(tracks.size()).arg(one.frames.first).arg(one.frames.second),
                    int(i));
            }
            movers_->setCurrentIndex(std::max(0, movers_->findData(before)));
            for (QPushButton* one : {mask, stands, object}) one->setEnabled(!session_.isBusy());
        });
    }

    /// What was said of tracks, which can be taken back.
    void addTold() {
        auto* words = dimLabel("");
        words->setObjectName("sceneTold");
        wide(words);
        auto* chosen = named(new QPushButton("Chosen stand"), "chosenStand",
                             "The chosen tracks are the scene's: solve for the camera that sees them stand still");
        auto* forget = named(new QPushButton("Forget"), "sceneForget", "Find out again which tracks are the scene's");
        auto* buttons = buttonRow({chosen, forget});
        wide(buttons);
        onClick(chosen, [this] { stage_.solveSceneOf(session_.selection.list()); });
        onClick(forget, [this] { change("Forget what stands", [](Shot& shot) { shot.solveSettings.sceneOf = {}; }); });
        onRefresh([this, words, chosen, forget, buttons] {
            const Shot& shot = session_.shot();
            const std::size_t told = shot.solveSettings.sceneOf.size();
            const bool mayChoose = shot.solve && !session_.selection.isEmpty() &&
                                   (told > 0 || !shot.solve->doubt.empty() || hasMovers(shot));
            words->setVisible(told > 0);
            words->setText(QString("%1 track%2 said to be the scene's").arg(told).arg(told == 1 ? " is" : "s are"));
            chosen->setVisible(mayChoose);
            chosen->setEnabled(!session_.isBusy());
            forget->setVisible(told > 0);
            forget->setEnabled(!session_.isBusy());
            buttons->setVisible(mayChoose || told > 0);
        });
    }

    CameraStage& stage_;
    QComboBox* movers_ = nullptr;
};

}  // namespace

QWidget* makeMoverList(Session& session, CameraStage& stage) { return new MoverList(session, stage); }

}  // namespace pinion
