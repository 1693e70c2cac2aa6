#include "shot/edits/cameraedits.h"

#include "shot/stages/camerastage.h"

#include <algorithm>

namespace pinion {

namespace {

/// What counts now is kept, if there is anything.
void keep(Shot& shot) {
    if (!shot.solve) return;
    shot.keptSolves = shot.keptSolves.edited([&](auto& kept) {
        kept.push_back({shot.solveId, shot.solve, shot.solvedKey, shot.solvedWith});
        if (kept.size() > kKeptSolves) kept.erase(kept.begin());
    });
}

}  // namespace

Shot withSolve(const Shot& shot, const Solve& solve, const Shot& asked) {
    Shot result = shot;
    keep(result);
    result.solve = std::make_shared<const Solve>(solve);
    result.solvedKey = solveKey(asked);
    result.solvedWith = asked.solveSettings;
    result.solveId = result.nextSolve++;
    return result;
}

Shot withSolveChosen(const Shot& shot, SolveId solve) {
    const auto chosen = std::find_if(shot.keptSolves.begin(), shot.keptSolves.end(),
                                     [&](const KeptSolve& kept) { return kept.id == solve; });
    if (chosen == shot.keptSolves.end()) return shot;
    Shot result = shot;
    result.keptSolves = shot.keptSolves.edited(
        [&](auto& kept) { std::erase_if(kept, [&](const KeptSolve& one) { return one.id == solve; }); });
    keep(result);
    result.solve = chosen->solve;
    result.solvedKey = chosen->key;
    result.solveId = chosen->id;
    result.solvedWith = result.solveSettings = chosen->settings;
    return result;
}

Shot withWorld(const Shot& shot, const World& world) {
    Shot result = shot;
    result.world = world;
    return result;
}

}  // namespace pinion
