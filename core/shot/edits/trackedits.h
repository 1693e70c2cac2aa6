#pragma once

#include "shot/shot.h"

#include <functional>
#include <string>
#include <vector>

namespace pinion {

struct SecondSweep;

// Edits of tracks: each gives the shot after it.

Shot withTrackAdded(const Shot& shot, int frame, const Eigen::Vector2d& at, TrackId* id = nullptr);
/// Places the track on `frame` by hand: a tie.
Shot withTrackMoved(const Shot& shot, TrackId track, int frame, const Eigen::Vector2d& to);
/// Takes a tie away; the frame is open until it is tracked again. The last sample of a track stays.
Shot withTieRemoved(const Shot& shot, TrackId track, int frame);
/// The frame becomes a tie where it is, from which the pattern is taken anew.
Shot withReferenceRenewed(const Shot& shot, TrackId track, int frame);
/// Changes the choices of tracks; locked ones stay as they are unless `evenLocked`.
Shot withTracksEdited(const Shot& shot, const std::vector<TrackId>& tracks, const std::function<void(Track&)>& edit,
                      bool evenLocked = false);
Shot withTracksDuplicated(const Shot& shot, const std::vector<TrackId>& tracks, std::vector<TrackId>* copies = nullptr);
/// The second track's frames go into the first, and it goes; the first one's frames win.
Shot withTracksJoined(const Shot& shot, TrackId first, TrackId second);
/// Only the frames of `range` stay, one at least.
Shot withTracksTrimmed(const Shot& shot, const std::vector<TrackId>& tracks, const FrameRange& range);
/// Read from a file: they get names and ids of their own.
Shot withTracksImported(const Shot& shot, const std::vector<Track>& tracks, std::vector<TrackId>* ids = nullptr);
/// Locked tracks stay.
Shot withTracksRemoved(const Shot& shot, const std::vector<TrackId>& tracks);
Shot withSetAside(const Shot& shot, const std::vector<TrackId>& tracks, bool aside);
Shot withTrackRenamed(const Shot& shot, TrackId track, const std::string& name);
/// Scattered tracks take the place of the earlier scattered ones; those placed by hand stay, and those that a matte
/// rides on.
Shot withScattered(const Shot& shot, const std::vector<Track>& tracks);
/// Tracks, found by their ids, take on new samples.
Shot withTracked(const Shot& shot, const std::vector<Track>& tracks);
/// The same of a second sweep; those that went into others go.
Shot withLengthened(const Shot& shot, const SecondSweep& sweep);

}  // namespace pinion
