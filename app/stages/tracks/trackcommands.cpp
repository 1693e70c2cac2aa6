#include "canvas/canvas.h"
#include "sheet/threadsheet.h"
#include "shot/edits/trackedits.h"
#include "stages/reasons.h"
#include "stages/tracks/trackjobs.h"
#include "stages/tracks/tracksstage.h"
#include "widgets/commands.h"
#include "widgets/filedialogs.h"
#include "widgets/toolbar.h"

#include <algorithm>

namespace pinion {
namespace {

using K = QKeySequence;
using ChangeTracks = std::function<void(const QString&, const std::function<void(Track&)>&, bool evenLocked)>;

/// Changes the selected tracks, in one edit.
ChangeTracks changeSelected(Session& session) {
    return [&session](const QString& name, const std::function<void(Track&)>& edit, bool evenLocked) {
        session.edit(name, withTracksEdited(session.shot(), session.selection.list(), edit, evenLocked));
    };
}

void goToTie(Session& session, int direction) {
    const int here = session.player.frame();
    std::optional<int> best;
    for (const Sample& sample : session.selection.onlyOne()->samples)
        if (sample.tie && (sample.frame - here) * direction > 0 &&
            (!best || std::abs(sample.frame - here) < std::abs(*best - here)))
            best = sample.frame;
    if (best) session.player.goTo(*best);
    else session.say("There is no other tie on that side.");
}

/// Locked ones stay, with a word.
void deleteSelected(Session& session) {
    auto tracks = session.selection.list();
    const auto locked = std::erase_if(tracks, [&session](TrackId id) {
        const Track* t = findTrack(session.shot(), id);
        return t && t->locked;
    });
    if (locked > 0) session.say(QString("%1 locked tracks stay. Unlock them to delete them.").arg(locked));
    if (tracks.empty()) return;
    session.selection.set({});
    session.edit(tracks.size() == 1 ? QString("Delete a track") : QString("Delete %1 tracks").arg(tracks.size()),
                 withTracksRemoved(session.shot(), tracks));
}

/// Without the frames of a range, unless that is all of it.
void cutFrames(Track& track, const FrameRange& frames) {
    List<Sample> kept = track.samples.edited(
        [&](auto& samples) { std::erase_if(samples, [&](const Sample& s) { return frames.holds(s.frame); }); });
    if (kept.isEmpty()) return;
    track.samples = kept;
    if (!sampleAt(track, track.referenceFrame)) track.referenceFrame = track.firstFrame();
}

}  // namespace

void TracksStage::addToolCommands(const Desk& desk) {
    Commands& c = desk.commands;
    const auto plate = [this] { return whyNoPlate(session_); };
    const auto idle = [this] { return whyNotReady(session_); };
    const auto here = [this] { return whyNotHere(session_); };
    c.add("Track", "Select tool", {K("V")}, [=, this] { desk.canvas.takeTool("select"); });
    c.add(
        "Track", "Place track", {K("T")},
        [=, this] {
            desk.show("plate");
            desk.canvas.takeTool("place");
        },
        plate);
    c.add(
        "Track", "Show candidates", {K("Shift+C")},
        [=, this] {
            desk.openCard("tracks");
            candidates.show(!candidates.areShown());
        },
        plate);
    c.add(
        "Track", "Draw its outline", {K("Shift+O")},
        [=, this] {
            desk.show("plate");
            desk.canvas.takeTool("outline");
        },
        here);
    c.add(
        "Track", "Find spots in an area", {K("Shift+P")},
        [=, this] {
            desk.show("plate");
            desk.canvas.takeTool("spots");
        },
        idle);
    c.add(
        "Track", "Place tracks on the proposed spots", {K("Ctrl+Shift+P")},
        [=, this] {
            Shot shot = session_.shot();
            std::set<TrackId> placed;
            for (const SpotProposal& spot : spots.all()) {
                TrackId id = 0;
                shot = withTrackAdded(shot, spots.frame(), spot.at, &id);
                placed.insert(id);
            }
            spots.clear();
            session_.edit(QString("Place %1 tracks").arg(placed.size()), std::move(shot));
            session_.selection.set(placed);
            desk.canvas.takeTool("select");
        },
        [=, this] {
            return !idle().isEmpty()     ? idle()
                   : spots.all().empty() ? QString("no spots are proposed; find some in an area first")
                                         : QString();
        });
}

void TracksStage::addHoldCommand(const Desk& desk) {
    desk.commands.add(
        "View", "Hold the canvas on the track", {K("N")},
        [=, this] {
            const TrackId wanted = session_.selection.isEmpty() ? 0 : *session_.selection.tracks().begin();
            follow_->set(follow_->track() == wanted ? 0 : wanted);
            desk.show("plate");
        },
        [=, this] {
            return session_.selection.isEmpty() && follow_->track() == 0 ? QString("no track is selected") : QString();
        });
}

void TracksStage::addRunCommands(const Desk& desk) {
    Commands& c = desk.commands;
    const auto plateIdle = [this] { return whyNotReady(session_); };
    const auto selected = [this] { return whyNoneSelected(session_); };
    const auto some = selected;
    const auto changed = changeSelected(session_);
    c.add(
        "Track", "Track backward", {K("Shift+B")},
        [=, this] { startTrack(session_, session_.selection.list(), Direction::backward, 0); }, selected);
    c.add(
        "Track", "Track one frame backward", {K("Ctrl+,")},
        [=, this] { startTrack(session_, session_.selection.list(), Direction::backward, 1); }, selected);
    c.add(
        "Track", "Track one frame forward", {K("Ctrl+.")},
        [=, this] { startTrack(session_, session_.selection.list(), Direction::forward, 1); }, selected);
    c.add(
        "Track", "Track forward", {K("Shift+F")},
        [=, this] { startTrack(session_, session_.selection.list(), Direction::forward, 0); }, selected);
    c.add(
        "Track", "Track both ways", {K("Shift+T")},
        [=, this] { startTrack(session_, session_.selection.list(), Direction::both, 0); }, selected);
    c.add(
        "Track", "Track what is bad", {K("Ctrl+Shift+B")},
        [=, this] { startTrackBad(session_, session_.selection.list()); }, some);
    c.add(
        "Track", "Scatter", {K("Ctrl+Shift+T")}, [=, this] { startScatter(session_); }, plateIdle);
    c.add(
        "Track", "Lengthen with the camera", {}, [this] { startLengthen(session_); },
        [this, plateIdle] {
            const QString why = plateIdle();
            return !why.isEmpty() ? why : session_.shot().solve ? QString() : QString("nothing is solved yet");
        });
    c.add(
        "Track", "Bridge the gaps", {K("B")},
        [=] {
            changed(
                "Bridge gaps", [](Track& t) { t = bridged(t); }, false);
        },
        some);

    // The steps stand in the bar beside the tools.
    desk.tools.addStep(c.action("Track backward"), "chevrons-left");
    desk.tools.addStep(c.action("Track one frame backward"), "chevron-left");
    desk.tools.addWord("Track");
    desk.tools.addStep(c.action("Track one frame forward"), "chevron-right");
    desk.tools.addStep(c.action("Track forward"), "chevrons-right");
}

void TracksStage::addTieCommands(const Desk& desk) {
    Commands& c = desk.commands;
    const auto one = [this] { return whyNotOne(session_); };
    const auto here = [this] { return whyNotHere(session_); };
    const auto selected = [this] { return whyNoneSelected(session_); };
    const auto toTie = [this](int direction) { goToTie(session_, direction); };
    c.add(
        "Track", "Make this frame a tie", {K("K")},
        [=, this] {
            const Track* track = session_.selection.onlyOne();
            session_.ties.place(track->id, session_.player.frame(), sampleAt(*track, session_.player.frame())->at,
                                "Tie of " + text(track->name));
        },
        here);
    c.add(
        "Track", "Remove the tie here", {K("Shift+K")},
        [=, this] {
            const Track* track = session_.selection.onlyOne();
            session_.ties.edit("Remove a tie of " + text(track->name),
                               withTieRemoved(session_.shot(), track->id, session_.player.frame()), track->id,
                               session_.player.frame());
        },
        [=, this] {
            if (!here().isEmpty()) return here();
            const Track* track = session_.selection.onlyOne();
            return !sampleAt(*track, session_.player.frame())->tie ? QString("this frame is no tie")
                   : track->samples.size() < 2                     ? QString("it is the track's only frame")
                                                                   : QString();
        });
    c.add(
        "Track", "Renew the reference here", {K("Shift+R")},
        [=, this] {
            const Track* track = session_.selection.onlyOne();
            session_.ties.edit("Renew the reference of " + text(track->name),
                               withReferenceRenewed(session_.shot(), track->id, session_.player.frame()), track->id,
                               session_.player.frame());
        },
        here);
    c.add(
        "Track", "Next tie", {K("]")}, [=, this] { toTie(1); }, one);
    c.add(
        "Track", "Previous tie", {K("[")}, [=, this] { toTie(-1); }, one);
    c.add(
        "Track", "Go to where it begins to go wrong", {K("W")},
        [=, this] {
            const Track* track = session_.selection.onlyOne();
            if (const auto frame = firstDoubt(*track)) session_.player.goTo(*frame);
            else session_.say(QString("%1 fits on all of its frames.").arg(text(track->name)));
        },
        [=, this] { return session_.selection.onlyOne() ? QString() : QString("select one track"); });
    c.add(
        "Play", "Reference frame of the track", {K("R")},
        [=, this] {
            if (const Track* track = findTrack(session_.shot(), *session_.selection.tracks().begin()))
                session_.player.goTo(track->referenceFrame);
        },
        selected);
}

void TracksStage::addListCommands(const Desk& desk) {
    Commands& c = desk.commands;
    const auto plate = [this] { return whyNoPlate(session_); };
    const auto idle = [this] { return whyNotReady(session_); };
    const auto plateIdle = idle;
    const auto selected = [this] { return whyNoneSelected(session_); };
    const auto some = selected;
    c.add(
        "Edit", "Delete tracks", {K("Delete")}, [this] { deleteSelected(session_); }, selected);
    c.add(
        "Edit", "Select all tracks", {K("Ctrl+A")},
        [=, this] {
            std::set<TrackId> all;
            for (const Track& track : session_.shot().tracks) all.insert(track.id);
            session_.selection.set(all);
        },
        plate);
    c.add(
        "Edit", "Select all others", {},
        [=, this] {
            std::set<TrackId> others;
            for (const Track& track : session_.shot().tracks)
                if (!session_.selection.contains(track.id)) others.insert(track.id);
            session_.selection.set(others);
        },
        plate);
    c.add(
        "Track", "Duplicate", {K("Ctrl+Shift+D")},
        [=, this] {
            std::vector<TrackId> copies;
            Shot shot = withTracksDuplicated(session_.shot(), session_.selection.list(), &copies);
            session_.edit(QString("Duplicate %1 tracks").arg(copies.size()), std::move(shot));
            session_.selection.set({copies.begin(), copies.end()});
        },
        some);
    c.add(
        "Track", "Join two tracks", {K("J")},
        [=, this] {
            const auto tracks = session_.selection.list();
            const Track *a = findTrack(session_.shot(), tracks[0]), *b = findTrack(session_.shot(), tracks[1]);
            session_.edit(QString("Join %1 and %2").arg(text(a->name), text(b->name)),
                          withTracksJoined(session_.shot(), tracks[0], tracks[1]));
            session_.selection.set({tracks[0]});
        },
        [=, this] {
            return !idle().isEmpty()                ? idle()
                   : session_.selection.size() == 2 ? QString()
                                                    : QString("select the two tracks of one feature");
        });
    c.add(
        "Shot", "Import tracks…", {K("Ctrl+I")},
        [this] {
            const QString path = askToOpen(FileKind::tracks, "Import tracks");
            if (!path.isEmpty()) importTracks(session_, path.toStdString());
        },
        plateIdle);
}

void TracksStage::addStateCommands(const Desk& desk) {
    Commands& c = desk.commands;
    const auto selected = [this] { return whyNoneSelected(session_); };
    const auto some = selected;
    const auto changed = changeSelected(session_);
    c.add(
        "Track", "Set selected aside", {K("X")},
        [=, this] {
            const auto tracks = session_.selection.list();
            session_.edit(QString("Set %1 tracks aside").arg(tracks.size()),
                          withSetAside(session_.shot(), tracks, true));
        },
        selected);
    c.add(
        "Track", "Bring selected back", {K("Shift+X")},
        [=, this] {
            const auto tracks = session_.selection.list();
            session_.edit(QString("Bring %1 tracks back").arg(tracks.size()),
                          withSetAside(session_.shot(), tracks, false));
        },
        selected);
    c.add(
        "Track", "Lock or unlock", {K("Ctrl+Shift+K")},
        [=, this] {
            const Track* first = findTrack(session_.shot(), *session_.selection.tracks().begin());
            const bool lock = !first->locked;
            changed(
                lock ? "Lock tracks" : "Unlock tracks", [lock](Track& t) { t.locked = lock; }, true);
        },
        some);
}

void TracksStage::addShownCommands(const Desk& desk) {
    Commands& c = desk.commands;
    const auto some = [this] { return whyNoneSelected(session_); };
    const auto changed = changeSelected(session_);
    c.add(
        "Track", "Hide", {K("Shift+H")},
        [=, this] {
            changed(
                "Hide tracks", [](Track& t) { t.hidden = true; }, true);
            session_.selection.set({});
        },
        some);
    c.add(
        "Track", "Show all", {K("Ctrl+Shift+H")},
        [=, this] {
            std::vector<TrackId> all;
            for (const Track& track : session_.shot().tracks)
                if (track.hidden) all.push_back(track.id);
            session_.edit("Show all tracks", withTracksEdited(
                                                 session_.shot(), all, [](Track& t) { t.hidden = false; }, true));
        },
        [=, this] {
            return std::any_of(session_.shot().tracks.begin(), session_.shot().tracks.end(),
                               [](const Track& t) { return t.hidden; })
                       ? QString()
                       : QString("no track is hidden");
        });
    c.add(
        "Track", "Select its group", {K("Ctrl+G")},
        [=, this] {
            std::set<std::string> groups;
            for (TrackId id : session_.selection.list())
                if (const Track* track = findTrack(session_.shot(), id); track && !track->group.empty())
                    groups.insert(track->group);
            std::set<TrackId> all = session_.selection.tracks();
            for (const Track& track : session_.shot().tracks)
                if (groups.contains(track.group)) all.insert(track.id);
            session_.selection.set(all);
        },
        some);
}

void TracksStage::addMarkCommands(const Desk& desk) {
    Commands& c = desk.commands;
    const auto changed = changeSelected(session_);
    const auto marked = [=, this] {
        const QString none = whyNoneSelected(session_);
        return !none.isEmpty()       ? none
               : desk.sheet.marked() ? QString()
                                     : QString("mark frames in the thread sheet with a rubber band");
    };
    c.add(
        "Track", "Cut the marked frames", {K("Ctrl+Shift+X")},
        [=, this] {
            const FrameRange frames = *desk.sheet.marked();
            changed(
                QString("Cut %1–%2").arg(frames.first).arg(frames.last), [frames](Track& t) { cutFrames(t, frames); },
                false);
        },
        marked);
    c.add(
        "Track", "Keep only the marked frames", {K("Ctrl+Shift+M")},
        [=, this] {
            const FrameRange frames = *desk.sheet.marked();
            session_.edit(QString("Keep %1–%2").arg(frames.first).arg(frames.last),
                          withTracksTrimmed(session_.shot(), session_.selection.list(), frames));
        },
        marked);
}

}  // namespace pinion
