#pragma once

#include "comp/art.h"
#include "exchange/formats.h"
#include "render/mesh.h"
#include "render/surface.h"

#include <memory>
#include <string>
#include <utility>
#include <vector>

namespace pinion {

// What the 3D formats share of stand-ins: their shape, their way, and the picture on them.

/// Fewer sides than what is rendered has. Null where its file cannot be read, or has more than `most` triangles: such a
/// file is handed on by itself.
std::shared_ptr<const Mesh> handedOnShape(const StandIn& standIn, std::size_t most);

/// Where it stands: once, or, where it moves or faces the camera, on every solved frame.
std::vector<std::pair<int, Stance>> handedOnStances(const CameraFile& file, const StandIn& standIn);

/// As shown, premultiplied, with what is keyed out of it; of a clip its first picture. Null: it has none, or its file
/// cannot be read.
std::shared_ptr<const Art> handedOnPicture(const StandIn& standIn);

/// The art as PNG, its alpha straight, with no side longer than `most` pixels. Fails where it cannot be made.
Expected<std::string> pngOf(const Art& art, int most = 2048);
Expected<std::string> pngOf(const SurfacePicture& picture, int most = 2048);

}  // namespace pinion
