#pragma once

#include "camera/object.h"
#include "shot/shot.h"

namespace pinion {

/// What an object's solve depends on: when it differs from the one it was solved with, the solve is stale.
std::uint64_t objectKey(const Shot& shot, const ShotObject& object);

/// The tracks on objects: they do not count for the camera.
std::vector<TrackId> tracksOnObjects(const Shot& shot);

/// In a sentence, what is to be done about the shot's objects; empty when all are solved as things stand.
std::string lackOfObjects(const Shot& shot);

/// What told its size, in words: "size by the ground, ± 0.1 %".
std::string sizeWords(const ObjectSolve& object);

}  // namespace pinion
