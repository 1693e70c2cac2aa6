#pragma once

// What most kinds of carrier have in common: things of a list of the shot, each with an id and a name.

#include "motion/ride.h"
#include "shot/shot.h"

#include <optional>
#include <string>
#include <vector>

namespace pinion {

template <auto list>
const auto* thingOf(const Shot& shot, std::int64_t id) {
    for (const auto& one : shot.*list)
        if (one.id == id) return &one;
    return static_cast<decltype(&(shot.*list)[0])>(nullptr);
}

template <auto list>
const std::string* nameOfThing(const Shot& shot, std::int64_t id) {
    const auto* thing = thingOf<list>(shot, id);
    return thing ? &thing->name : nullptr;
}

template <auto list>
std::optional<std::int64_t> idOfThing(const Shot& shot, const std::string& name) {
    for (const auto& one : shot.*list)
        if (one.name == name) return one.id;
    return std::nullopt;
}

/// Each of them, to be ridden on as `make` says.
template <auto list, Ride (*make)(std::int64_t, int)>
std::vector<Ride> ridesOnThings(const Shot& shot) {
    std::vector<Ride> rides;
    for (const auto& one : shot.*list) rides.push_back(make(one.id, 0));
    return rides;
}

}  // namespace pinion
