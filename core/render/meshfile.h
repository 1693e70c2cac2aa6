#pragma once

#include "base/expected.h"
#include "render/mesh.h"
#include "render/surface.h"

#include <filesystem>
#include <memory>
#include <string>
#include <vector>

namespace pinion {

/// The shape in an OBJ, PLY, glTF or other file that assimp reads, all its parts as one, with the colours of its places
/// or materials. It fills the unit as all shapes do; `extents` are its own, as the file has them, y up.
struct MeshFile {
    std::shared_ptr<const Mesh> mesh;
    Eigen::Vector3d extents{1, 1, 1};
    /// One that its materials name.
    struct Skin {
        std::shared_ptr<const SurfacePicture> picture;  ///< null where it cannot be read, which `problems` says
        std::filesystem::path file;                     ///< empty: it lies within the mesh's own
    };
    std::vector<Skin> skins;
    std::vector<std::string> problems;
};

/// Kept with the stamps of the file and of the pictures beside it, so that the same is not read twice; from any thread.
/// Fails for a file that is not there, is no mesh, or has no triangles, with what to do.
Expected<MeshFile> readMesh(const std::filesystem::path& path);
/// Another one once the file or a picture of its materials is.
std::uint64_t stampOfMesh(const std::filesystem::path& path);
/// Of a stand-in that is a mesh; none of others, or where it cannot be read.
std::vector<MeshFile::Skin> skinsOf(const StandIn& standIn);
/// Only where it has been read already.
std::shared_ptr<const Mesh> knownMesh(const std::filesystem::path& path);

/// The shape of a stand-in: of its kind, or of its file; null where that cannot be read.
std::shared_ptr<const Mesh> shapeOf(const StandIn& standIn, int sides = kRoundSides);

}  // namespace pinion
