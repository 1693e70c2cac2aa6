#pragma once

#include "camera/trackerrors.h"

#include <array>
#include <string>
#include <string_view>
#include <vector>

namespace pinion {

/// Why a track is suspected, the gravest first: a track is listed once, by the first that holds.
enum class SuspectReason {
    behind,   ///< its point lies behind a camera that sees it
    jumps,    ///< it goes from one place to another between two frames
    moves,    ///< it goes with others, apart from the scene
    crosses,  ///< it sits where something near passes before something far: no one place
    slides,   ///< it runs along an edge, or drifts
    strays,   ///< it is off the camera in no such way: a foreign motion, or a bad match
    beyond,   ///< its point is far from all that lies about it in the picture
    doubles,  ///< another track is on the same place
    narrow    ///< its rays hardly spread: its depth is a guess
};
constexpr std::size_t kSuspectReasons = 9;

struct Suspect {
    TrackId track = 0;
    SuspectReason reason = SuspectReason::strays;
    double by_px = 0;         ///< how far it is off: the jump, or the lasting error
    double alongDegrees = 0;  ///< of what slides: 0 to the right, 90 downwards, -90 to 90
    int frame = 0;            ///< of what jumps: the first frame after it
    TrackId other = 0;        ///< of what doubles
};

/// "slide along an edge": for the tracks of a list.
std::string_view wordsOf(SuspectReason reason);
/// "s-012 jumps by 3.1 px on 1043", "s-031 is on the place of s-007".
std::string wordsOf(const Suspect& suspect, std::string_view name, std::string_view other);
/// Whether the solve is better off without it; the rest does it no harm, but is of no use to who stands things there.
bool isHarmful(SuspectReason reason);

/// Of tracks against their solve, whichever role it gave them. Where the evidence for a reason is within the noise that
/// the good tracks show, none is given. The solve's `movers` are taken as such.
std::vector<Suspect> suspectsOf(const Solve& solve, const std::vector<TrackErrors>& errors);

}  // namespace pinion
