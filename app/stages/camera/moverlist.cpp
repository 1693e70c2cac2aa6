#include "stages/camera/moverlist.h"

#include "stages/camera/camerastage.h"
#include "stages/shotform.h"

#include <algorithm>
#include <array>

namespace pinion {
namespace {

constexpr std::size_t kMostShown = 3;

class MoverList : public ShotForm {
public:
    MoverList(Session& session, CameraStage& stage) : ShotForm(session), stage_(stage) {
        for (std::size_t i = 0; i < kMostShown; ++i) addRow(i);
        addTold();
        refresh();
    }

private:
    static const List<MovingTracks>& moversOf(const Shot& shot) {
        static const List<MovingTracks> none;
        return shot.solve ? shot.solve->movers : none;
    }

    /// Its tracks that the shot still has.
    static std::vector<TrackId> tracksOf(const Shot& shot, std::size_t place) {
        std::vector<TrackId> tracks;
        if (place < moversOf(shot).size())
            for (const TrackId id : moversOf(shot)[place].tracks)
                if (findTrack(shot, id)) tracks.push_back(id);
        return tracks;
    }

    void addRow(std::size_t place) {
        auto* words = dimLabel("");
        words->setObjectName(QString("mover-%1").arg(place));
        wide(words);
        auto* choose = named(new QPushButton("Choose"), "moverChoose", "Choose its tracks");
        auto* mask = named(new QPushButton("Mask"), "moverMask",
                           "A matte about its tracks that goes with them; what it covers no longer counts");
        auto* stands = named(new QPushButton("Is the scene"), "moverStands",
                             "These tracks are the scene's: solve for the camera that sees them stand still");
        auto* buttons = buttonRow({choose, mask, stands});
        wide(buttons);
        onClick(choose, [this, place] {
            const auto tracks = tracksOf(session_.shot(), place);
            session_.selection.set({tracks.begin(), tracks.end()});
        });
        onClick(mask, [this, place] { stage_.maskMover(place); });
        onClick(stands, [this, place] { stage_.solveSceneOf(tracksOf(session_.shot(), place)); });
        onRefresh([this, place, words, choose, mask, stands, buttons] {
            const Shot& shot = session_.shot();
            const auto tracks = tracksOf(shot, place);
            const bool counts =
                std::any_of(tracks.begin(), tracks.end(), [&](TrackId id) { return !findTrack(shot, id)->setAside; });
            for (QWidget* part : std::array<QWidget*, 2>{words, buttons}) part->setVisible(counts);
            if (!counts) return;
            const auto& frames = moversOf(shot)[place].frames;
            words->setText(QString("%1 tracks move as one thing, %2 to %3")
                               .arg(tracks.size())
                               .arg(frames.first)
                               .arg(frames.second));
            for (QPushButton* one : {mask, stands}) one->setEnabled(!session_.isBusy());
            choose->setAccessibleName(QString("Choose the tracks of thing %1").arg(place + 1));
            mask->setAccessibleName(QString("Mask thing %1").arg(place + 1));
            stands->setAccessibleName(QString("Thing %1 is the scene").arg(place + 1));
        });
    }

    /// What was said of tracks, which can be taken back.
    void addTold() {
        auto* words = dimLabel("");
        words->setObjectName("sceneTold");
        wide(words);
        auto* chosen = named(new QPushButton("Chosen are the scene"), "chosenStand",
                             "The chosen tracks are the scene's: solve for the camera that sees them stand still");
        auto* forget = named(new QPushButton("Forget"), "sceneForget", "Find out again which tracks are the scene's");
        auto* buttons = buttonRow({chosen, forget});
        wide(buttons);
        onClick(chosen, [this] { stage_.solveSceneOf(session_.selection.list()); });
        onClick(forget, [this] { change("Forget what stands", [](Shot& shot) { shot.solveSettings.sceneOf = {}; }); });
        onRefresh([this, words, chosen, forget, buttons] {
            const Shot& shot = session_.shot();
            const std::size_t told = shot.solveSettings.sceneOf.size();
            const bool mayChoose = shot.solve && !session_.selection.isEmpty();
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
};

}  // namespace

QWidget* makeMoverList(Session& session, CameraStage& stage) { return new MoverList(session, stage); }

}  // namespace pinion
