#pragma once

#include "base/fingerprint.h"
#include "lens/lens.h"
#include "track/track.h"

#include <string>

namespace pinion {

/// Of the samples and ids; what is set aside counts only where it is asked for.
void addTracks(Fingerprint& print, const List<Track>& tracks, bool withSetAside);
void addText(Fingerprint& print, const std::string& text);
void addLens(Fingerprint& print, const Lens& lens);

}  // namespace pinion
