#include "jobs/proposing.h"

#include "jobs/solving.h"
#include "shot/carriers/carriers.h"
#include "shot/edits/matteedits.h"
#include "shot/edits/trackedits.h"
#include "shot/stages/camerastage.h"

namespace pinion {

Expected<std::vector<MoverProposal>> runPropose(const Shot& shot, FrameCache& frames, const Progress& progress) {
    std::shared_ptr<const Solve> solve = shot.solvedKey == solveKey(shot) ? shot.solve : nullptr;
    const double solved = solve ? 0.0 : 0.6;
    if (!solve) {
        auto made = runSolve(shot, progress.part(0, solved));
        if (!made)
            return failure(made.error().fault, "what moves cannot be told from what stands still: {}",
                           made.error().message);
        solve = std::make_shared<const Solve>(std::move(*made));
    }
    // Against a camera that is in doubt every still thing may seem to move.
    if (!solve->doubt.empty())
        if (auto told = proposeFromTracks(solve->movers.vector(), shot.tracks.vector(), shot.plate.range,
                                          shot.plate.width, shot.plate.height);
            !told.empty())
            return told;
    return proposeMovers(frames, *solve, {.range = shot.plate.range}, progress.part(solved, 1));
}

Shot shotOf(const MoverProposal& proposal) {
    Shot shot;
    shot.plate.range = proposal.frames;
    shot.tracks = std::vector<Track>{proposal.path};
    return shot;
}

Shot withMoverAccepted(const Shot& shot, const MoverProposal& proposal) {
    if (!proposal.matte.ride) return withCoveredSetAside(withMatteAdded(shot, proposal.matte));
    std::vector<TrackId> ids;
    Shot result = withTracksImported(shot, {proposal.path}, &ids);
    Matte matte = proposal.matte;
    matte.ride = rideOnTracks({ids.front()}, matte.ride->referenceFrame);
    return withCoveredSetAside(withMatteAdded(result, std::move(matte)));
}

}  // namespace pinion
