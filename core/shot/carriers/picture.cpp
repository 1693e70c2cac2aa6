#include "shot/carriers/carriers.h"
#include "steady/motion.h"

namespace pinion {
namespace {

PictureModel modelOf(const Ride& ride) {
    if (!ride.as) return PictureModel::automatic;
    return *ride.as == MotionKind::position     ? PictureModel::position
           : *ride.as == MotionKind::similarity ? PictureModel::similarity
                                                : PictureModel::perspective;
}

/// It is worked out once, from the first frame of the range, whatever frame of it it is told from. A frame beside the
/// range has a motion of its own, which has to be found too.
Ride baseOf(const Shot& shot, Ride ride) {
    if (shot.plate.range.holds(ride.referenceFrame)) ride.referenceFrame = shot.plate.range.first;
    return ride;
}

std::shared_ptr<const Carrier> pictureCarrying(const Shot& shot, const Ride& ride) {
    if (const Ride base = baseOf(shot, ride); !(base == ride))
        return std::make_shared<const Carrier>(shot.plate.range,
                                               [carrier = carrierOf(shot, base), ride]() -> Expected<PlateMotion> {
                                                   if (!carrier->problem().empty()) return carrier->motionOrProblem();
                                                   return rebased(carrier->motion(), ride.referenceFrame);
                                               });
    std::vector<Track> counting;
    for (const Track& track : shot.tracks)
        if (!track.setAside) counting.push_back(track);
    return std::make_shared<const Carrier>(shot.plate.range, [counting, ride, whole = wholeRange(shot, ride)] {
        return pictureMotionOf(counting, ride.referenceFrame, whole, modelOf(ride));
    });
}

bool isPictureQuick(const Shot& shot, const Ride& ride) {
    const Ride base = baseOf(shot, ride);
    return !(base == ride) && quickCarrierOf(shot, base);
}

/// Asked at every repaint: kept with the version of the tracks.
void addPicture(Fingerprint& print, const Shot& shot, const Ride&) {
    struct Counting {
        std::uint64_t value;
    };
    print.add(shot.tracks
                  .derived<Counting>([&](const std::vector<Track>&) {
                      Fingerprint own;
                      addTracks(own, shot.tracks, AsideTracks::leftOut);
                      return Counting{own.value()};
                  })
                  .value);
}

}  // namespace

Ride rideOnPicture(int referenceFrame) { return {"picture", {}, referenceFrame}; }

CarrierKind pictureCarrier() {
    return {.word = "picture",
            .thing = "picture",
            .make = pictureCarrying,
            .addKey = addPicture,
            .carriesFrame = true,
            .isQuick = isPictureQuick,
            .words = [](const Shot&, const Ride&) { return std::string("the whole picture"); },
            .offered = [](const Shot&) { return std::vector<Ride>{rideOnPicture()}; }};
}

}  // namespace pinion
