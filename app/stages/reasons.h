#pragma once

#include "session/session.h"

namespace pinion {

// Why a command cannot be done now, in words; empty when it can.

inline QString whyNoPlate(const Session& s) { return s.hasPlate() ? QString() : QString("no plate is open"); }
inline QString whyBusy(const Session& s) { return s.isBusy() ? QString("a job is running") : QString(); }
inline QString whyNotReady(const Session& s) {
    const QString plate = whyNoPlate(s);
    return plate.isEmpty() ? whyBusy(s) : plate;
}
inline QString whyNoneSelected(const Session& s) {
    const QString ready = whyNotReady(s);
    return !ready.isEmpty() ? ready : s.selection.isEmpty() ? QString("no track is selected") : QString();
}
/// One track is selected that may be changed.
inline QString whyNotOne(const Session& s) {
    const QString ready = whyNotReady(s);
    if (!ready.isEmpty()) return ready;
    const Track* track = s.selection.onlyOne();
    return !track ? QString("select one track") : track->locked ? QString("the track is locked") : QString();
}
/// The same, and it is on the frame that is shown.
inline QString whyNotHere(const Session& s) {
    const QString one = whyNotOne(s);
    if (!one.isEmpty()) return one;
    return sampleAt(*s.selection.onlyOne(), s.player.frame()) ? QString() : QString("the track is not on this frame");
}
inline QString whyNoTracks(const Session& s) {
    const QString ready = whyNotReady(s);
    if (!ready.isEmpty()) return ready;
    return s.shot().tracks.isEmpty() ? QString("there are no tracks; scatter first") : QString();
}

}  // namespace pinion
