#pragma once

#include "exchange/deliverables.h"

namespace pinion {

extern const DeliverableRow kCameraRow;
extern const DeliverableRow kTracksRow;
extern const DeliverableRow kStMapsRow;
extern const DeliverableRow kTransformsRow;
extern const DeliverableRow kCornerPinRow;

/// Read back, it has to be as it was written.
Expected<void> checkSame(bool same, const std::filesystem::path& path, const char* what);

/// The frame rate, which every file carries.
void addRate(Fingerprint& print, const FrameRate& rate);

}  // namespace pinion
