#pragma once

#include "console.h"
#include "exchange/formats.h"
#include "lens/lens.h"
#include "matte/matte.h"
#include "plate/plate.h"
#include "shot/shot.h"
#include "track/tracking.h"

#include <memory>
#include <string>
#include <vector>

namespace pinion::cli {

/// "A-B" within the plate; all of it when empty.
Expected<FrameRange> parseRange(const std::string& text, const PlateFacts& facts);

/// As the words common to all commands say. A wrong rate is said when the plate is opened.
PlateOptions plateOptions(const Console& console);
Expected<std::shared_ptr<const Plate>> openPlate(const Console& console, const std::string& path, PlateOptions options);
Expected<std::shared_ptr<const Plate>> openPlate(const Console& console, const std::string& path);

/// The plate of a shot, which still has the shot's size and holds the frames it works on.
Expected<std::shared_ptr<const Plate>> openPlateOf(const Console& console, const Shot& shot);

/// The frame cache's budget in bytes.
std::size_t budget(const Console& console);

/// Tracks from a file, checked against the plate's size, rate and frames.
Expected<std::vector<Track>> tracksFor(const std::string& path, const PlateFacts& facts);

/// A camera from a file, checked against the plate's size.
Expected<CameraFile> cameraFor(const std::string& path, const PlateFacts& facts);

/// A lens from a file, checked against the plate's size.
Expected<Lens> lensFor(const std::string& path, const PlateFacts& facts);

/// Mattes from a file, those that ride carried by the tracks of another over `range`. Fails when one rides and no
/// tracks are given.
Expected<std::vector<Matte>> mattesFor(const std::string& path, const std::string& tracks, const FrameRange& range,
                                       const PlateFacts& facts);

}  // namespace pinion::cli
