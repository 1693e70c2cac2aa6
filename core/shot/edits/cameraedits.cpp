#include "shot/edits/cameraedits.h"

namespace pinion {

Shot withSolve(const Shot& shot, const Solve& solve, std::uint64_t solvedKey) {
    Shot result = shot;
    result.solve = std::make_shared<const Solve>(solve);
    result.solvedKey = solvedKey;
    return result;
}

Shot withWorld(const Shot& shot, const World& world) {
    Shot result = shot;
    result.world = world;
    return result;
}

}  // namespace pinion
