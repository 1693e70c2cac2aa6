#pragma once

#include "comp/insertion.h"
#include "shot/shot.h"

#include <functional>
#include <optional>
#include <string>
#include <vector>

namespace pinion {

// Edits of clips and inserts: each gives the shot after it.

/// Into the list, under a free name; a clip of the same file is not taken twice, and keeps its id.
Shot withClipAdded(const Shot& shot, const Clip& clip, ClipId* id = nullptr);
Shot withClipEdited(const Shot& shot, ClipId clip, const std::function<void(Clip&)>& edit);
/// Its file found again, or replaced by another: what shows it shows the new one.
Shot withClipReplaced(const Shot& shot, ClipId clip, const Clip& by);
/// The clip goes, and the inserts that show it.
Shot withClipRemoved(const Shot& shot, ClipId clip);

/// On top of the others, under a free name: placed in what carries it, whole inside where it is a planar track's
/// surface or four tracks, at its own size or a third of the frame elsewhere, on `frame`.
Shot withInsertAdded(const Shot& shot, Insert insert, int frame, InsertId* id = nullptr);
Shot withInsertEdited(const Shot& shot, InsertId insert, const std::function<void(Insert&)>& edit);
Shot withInsertRemoved(const Shot& shot, InsertId insert);
/// To another place in the order, 0 the lowest.
Shot withInsertMoved(const Shot& shot, std::size_t from, std::size_t to);
/// A copy above it, pinned to something else: it keeps its look, its place inside, its times.
Shot withInsertCopied(const Shot& shot, InsertId insert, const std::optional<Ride>& ride, int frame,
                      InsertId* id = nullptr);
/// Pinned to something else, from how it lies on `frame`.
Shot withInsertPinned(const Shot& shot, InsertId insert, const std::optional<Ride>& ride, int frame);

/// Width to height of what it shows, when laid by itself; none while that is not known.
std::optional<double> artRatio(const Shot& shot, const Insert& insert);
/// Whole inside its carrier, covering it, or to its corners; its trims stay.
Shot withInsertFitted(const Shot& shot, InsertId insert, Fitting fitting);

/// An opacity key on a frame: set, or taken away. The first one set holds everywhere.
Shot withOpacityKey(const Shot& shot, InsertId insert, int frame, double opacity);
Shot withOpacityKeyRemoved(const Shot& shot, InsertId insert, int frame);
/// From `frame` to where that changes next it is there, or is not.
Shot withInsertThere(const Shot& shot, InsertId insert, int frame, bool there);

}  // namespace pinion
