#include "shot/file/parts.h"
#include "shot/file/values.h"

namespace pinion {
namespace {

using namespace jsonfile;
using namespace shotfile;
namespace fs = std::filesystem;

void putWorldPart(json& document, const Shot& shot, const fs::path&) {
    json& world = document["world"];
    world["ground"] = shot.world.ground.vector();
    if (shot.world.origin) world["origin"] = *shot.world.origin;
    if (shot.world.measure)
        world["measure"] = {{"from", shot.world.measure->from},
                            {"to", shot.world.measure->to},
                            {"length_m", shot.world.measure->length_m}};
}

void takeWorldPart(const json& document, Shot& shot, const fs::path&) {
    const json& world = member(document, "world", "file");
    std::vector<TrackId> ground;
    for (const json& id : list(world, "ground", "world")) ground.push_back(takeId(id, "world.ground"));
    shot.world.ground = List<TrackId>(std::move(ground));
    if (world.contains("origin")) shot.world.origin = TrackId(key(world, "origin", "world"));
    if (world.contains("measure")) {
        const json& measure = world["measure"];
        shot.world.measure =
            World::Measure{TrackId(key(measure, "from", "world.measure")), TrackId(key(measure, "to", "world.measure")),
                           number(measure, "length_m", "world.measure")};
    }
}

}  // namespace

ShotFilePart worldPart() { return {putWorldPart, takeWorldPart}; }

}  // namespace pinion
