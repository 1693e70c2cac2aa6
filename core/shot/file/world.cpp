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
    const World& own = shot.world;
    for (const World::Measure& measure : own.measures)
        world["measures"].push_back({{"from", measure.from}, {"to", measure.to}, {"length_m", measure.length_m}});
    if (own.height_m) world["height_m"] = *own.height_m;
    if (own.facing) world["facing"] = {{"from", own.facing->from}, {"to", own.facing->to}};
    if (!own.wall.isEmpty()) world["wall"] = own.wall.vector();
    if (own.turn_deg != 0) world["turn_deg"] = own.turn_deg;
    if (own.flipped) world["flipped"] = true;
}

void takeWorldPart(const json& document, Shot& shot, const fs::path&) {
    const json& world = member(document, "world", "file");
    std::vector<TrackId> ground;
    for (const json& id : list(world, "ground", "world")) ground.push_back(takeId(id, "world.ground"));
    shot.world.ground = List<TrackId>(std::move(ground));
    if (world.contains("origin")) shot.world.origin = TrackId(key(world, "origin", "world"));
    std::vector<World::Measure> measures;
    const auto takeMeasure = [&](const json& measure, const std::string& where) {
        measures.push_back({TrackId(key(measure, "from", where)), TrackId(key(measure, "to", where)),
                            number(measure, "length_m", where)});
    };
    // Older files have one.
    if (world.contains("measure")) takeMeasure(world["measure"], "world.measure");
    if (world.contains("measures"))
        for (const json& measure : list(world, "measures", "world"))
            takeMeasure(measure, fmt::format("world.measures[{}]", measures.size()));
    shot.world.measures = List<World::Measure>(std::move(measures));
    if (world.contains("height_m")) shot.world.height_m = number(world, "height_m", "world");
    if (world.contains("facing"))
        shot.world.facing = World::Facing{TrackId(key(world["facing"], "from", "world.facing")),
                                          TrackId(key(world["facing"], "to", "world.facing"))};
    if (world.contains("wall")) shot.world.wall = takeIds(world, "wall", "world");
    shot.world.turn_deg = std::clamp(numberOr(world, "turn_deg", 0, "world"), -1e6, 1e6);
    shot.world.flipped = flagOr(world, "flipped", false, "world");
}

}  // namespace

ShotFilePart worldPart() { return {putWorldPart, takeWorldPart}; }

}  // namespace pinion
