#pragma once

#include "camera/object.h"
#include "shot/shot.h"

#include <functional>
#include <string>

namespace pinion {

// Edits of objects: each gives the shot after it.

/// A new object of these tracks, which leave every other; one whose tracks have all left goes.
Shot withObjectAdded(const Shot& shot, const std::vector<TrackId>& tracks, ObjectId* id = nullptr);
Shot withObjectEdited(const Shot& shot, ObjectId object, const std::function<void(ShotObject&)>& edit);
/// Under a free name.
Shot withObjectRenamed(const Shot& shot, ObjectId object, const std::string& name);
Shot withObjectRemoved(const Shot& shot, ObjectId object);
/// The solve that was made in `asked`, with the tracks that joined; nothing where the object is gone.
Shot withObjectSolved(const Shot& shot, ObjectId object, const ObjectSolve& solve, const Shot& asked);

}  // namespace pinion
