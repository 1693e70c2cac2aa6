#include "render/meshfile.h"

#include "base/fingerprint.h"
#include "plate/filestamp.h"

#include <assimp/Importer.hpp>
#include <assimp/postprocess.h>
#include <assimp/scene.h>

#include <OpenImageIO/filesystem.h>
#include <OpenImageIO/imageio.h>

#include <algorithm>
#include <fstream>
#include <limits>
#include <list>
#include <mutex>

namespace pinion {

using Eigen::Vector3f;

namespace {

constexpr std::size_t kMostWithEdges = 400000;                   // triangles: of more no wire is drawn
constexpr std::uintmax_t kLargeFile = std::uintmax_t(40) << 20;  // bytes: as it is, without normals made for it

/// 8 bits a channel, with its alpha.
std::shared_ptr<const SurfacePicture> pictureFrom(OIIO::ImageInput& input) {
    const OIIO::ImageSpec& spec = input.spec();
    const int width = spec.width, height = spec.height, channels = spec.nchannels;
    if (width <= 0 || height <= 0 || channels <= 0) return nullptr;
    const std::size_t count = std::size_t(width) * std::size_t(height), own = std::size_t(channels);
    std::vector<std::uint8_t> read(count * own);
    if (!input.read_image(0, 0, 0, channels, OIIO::TypeDesc::UINT8, read.data())) return nullptr;
    Picture picture{width, height, Picture::Depth::bits8, false, {}, {}};
    picture.bytes.resize(3 * count);
    // Grey, and grey with an alpha, have one colour for all three.
    const std::size_t colours = own < 3 ? 1 : 3;
    const bool hasAlpha = own == 2 || own == 4;
    ImageChannel alpha(hasAlpha ? width : 0, hasAlpha ? height : 0);
    for (std::size_t i = 0; i < count; ++i) {
        for (std::size_t c = 0; c < 3; ++c) picture.bytes[3 * i + c] = read[own * i + (colours == 1 ? 0 : c)];
        if (hasAlpha) alpha.values[i] = float(read[own * i + own - 1]) / 255;
    }
    return std::make_shared<const SurfacePicture>(picture, hasAlpha ? &alpha : nullptr);
}

/// The file beside a mesh that its material names.
std::filesystem::path fileNamed(std::string name, const std::filesystem::path& mesh) {
    std::replace(name.begin(), name.end(), '\\', '/');
    return mesh.parent_path() / name;
}

/// By the name that a material has for it: a file beside the mesh, or a part of the mesh's own file.
std::shared_ptr<const SurfacePicture> pictureNamed(const aiScene& scene, const std::string& name,
                                                   const std::filesystem::path& mesh) {
    if (const aiTexture* inside = scene.GetEmbeddedTexture(name.c_str())) {
        if (inside->mHeight != 0) return nullptr;  // bare pixels; no format that is read has them
        OIIO::Filesystem::IOMemReader memory(inside->pcData, inside->mWidth);
        OIIO::ImageSpec config;
        config["oiio:UnassociatedAlpha"] = 1;
        OIIO::Filesystem::IOProxy* from = &memory;
        config.attribute("oiio:ioproxy", OIIO::TypeDesc::PTR, &from);
        const auto input = OIIO::ImageInput::open(std::string("inside.") + inside->achFormatHint, &config);
        return input ? pictureFrom(*input) : nullptr;
    }
    OIIO::ImageSpec config;
    config["oiio:UnassociatedAlpha"] = 1;
    const auto input = OIIO::ImageInput::open(fileNamed(name, mesh).string(), &config);
    return input ? pictureFrom(*input) : nullptr;
}

/// The pictures of a scene's materials, each once; of each material which one, from 1.
std::vector<std::uint16_t> takePictures(const aiScene& scene, const std::filesystem::path& path, MeshFile& file) {
    std::vector<std::uint16_t> numbers(scene.mNumMaterials, 0);
    std::vector<std::string> known;
    for (unsigned m = 0; m < scene.mNumMaterials; ++m) {
        aiString name;
        if (scene.mMaterials[m]->GetTexture(aiTextureType_BASE_COLOR, 0, &name) != aiReturn_SUCCESS &&
            scene.mMaterials[m]->GetTexture(aiTextureType_DIFFUSE, 0, &name) != aiReturn_SUCCESS)
            continue;
        auto at = std::find(known.begin(), known.end(), name.C_Str());
        if (at == known.end()) {
            at = known.insert(known.end(), name.C_Str());
            const bool isInside = scene.GetEmbeddedTexture(name.C_Str()) != nullptr;
            file.skins.push_back({pictureNamed(scene, name.C_Str(), path),
                                  isInside ? std::filesystem::path() : fileNamed(name.C_Str(), path)});
            if (!file.skins.back().picture)
                file.problems.push_back(
                    fmt::format("{}: its picture {} cannot be read", path.filename().string(), name.C_Str()));
        }
        const auto number = std::size_t(at - known.begin());
        if (file.skins[number].picture && number < 0xFFFF) numbers[m] = std::uint16_t(number + 1);
    }
    return numbers;
}

/// The shape of a scene, its parts already in one space. `pictures`: of each material.
Mesh meshOf(const aiScene& scene, const std::vector<std::uint16_t>& pictures) {
    Mesh mesh;
    bool hasNormals = true, hasColours = false, hasPictures = false;
    for (unsigned m = 0; m < scene.mNumMeshes; ++m) {
        hasNormals = hasNormals && scene.mMeshes[m]->HasNormals();
        hasColours = hasColours || scene.mMeshes[m]->HasVertexColors(0) || scene.mNumMaterials > 1;
        hasPictures =
            hasPictures || (scene.mMeshes[m]->HasTextureCoords(0) && pictures[scene.mMeshes[m]->mMaterialIndex] != 0);
    }
    for (unsigned m = 0; m < scene.mNumMeshes; ++m) {
        const aiMesh& part = *scene.mMeshes[m];
        if ((part.mPrimitiveTypes & unsigned(aiPrimitiveType_TRIANGLE)) == 0) continue;
        const auto first = std::uint32_t(mesh.places.size());
        const std::uint16_t picture = part.HasTextureCoords(0) ? pictures[part.mMaterialIndex] : std::uint16_t(0);
        aiColor4D tint(1, 1, 1, 1);
        scene.mMaterials[part.mMaterialIndex]->Get(AI_MATKEY_COLOR_DIFFUSE, tint);
        for (unsigned i = 0; i < part.mNumVertices; ++i) {
            const aiVector3D& p = part.mVertices[i];
            mesh.places.emplace_back(p.x, p.y, p.z);
            if (hasNormals) {
                const aiVector3D& n = part.mNormals[i];
                mesh.normals.emplace_back(n.x, n.y, n.z);
            }
            if (hasColours) {
                const aiColor4D colour = part.HasVertexColors(0) ? part.mColors[0][i] : tint;
                mesh.colours.emplace_back(colour.r, colour.g, colour.b);
            }
            if (hasPictures) {
                const aiVector3D at = part.HasTextureCoords(0) ? part.mTextureCoords[0][i] : aiVector3D();
                mesh.sheet.emplace_back(at.x, 1 - at.y);  // rows go up there
            }
        }
        for (unsigned f = 0; f < part.mNumFaces; ++f) {
            const aiFace& face = part.mFaces[f];
            if (face.mNumIndices != 3) continue;
            mesh.triangles.push_back({first + face.mIndices[0], first + face.mIndices[1], first + face.mIndices[2]});
            if (hasPictures) mesh.pictureOf.push_back(picture);
        }
    }
    return mesh;
}

Expected<MeshFile> read(const std::filesystem::path& path) {
    std::error_code code;
    const auto bytes = std::filesystem::file_size(path, code);
    if (code) return failure(Fault::input, "{}: is not there; find the mesh again", path.string());
    // A PLY whose header does not end would keep the importer for ever.
    if (std::string ending = path.extension().string(); ending == ".ply" || ending == ".PLY") {
        std::ifstream stream(path, std::ios::binary);
        std::string head(std::min<std::uintmax_t>(bytes, 1 << 16), '\0');
        stream.read(head.data(), std::streamsize(head.size()));
        if (head.find("end_header") == std::string::npos)
            return failure(Fault::input, "{}: its header does not end; write the PLY again", path.string());
    }
    Assimp::Importer importer;
    unsigned steps =
        unsigned(aiProcess_Triangulate) | unsigned(aiProcess_PreTransformVertices) | unsigned(aiProcess_SortByPType);
    if (bytes <= kLargeFile) steps |= unsigned(aiProcess_JoinIdenticalVertices) | unsigned(aiProcess_GenSmoothNormals);
    importer.SetPropertyInteger(AI_CONFIG_PP_SBP_REMOVE, aiPrimitiveType_POINT | aiPrimitiveType_LINE);
    importer.SetPropertyFloat(AI_CONFIG_PP_GSN_MAX_SMOOTHING_ANGLE, 50);
    const aiScene* scene = importer.ReadFile(path.string(), steps);
    if (!scene) {
        std::string why = importer.GetErrorString();
        return failure(Fault::input, "{}: is no mesh that can be read ({}); write it as OBJ, PLY or glTF",
                       path.string(), why.substr(0, why.find('\n')));
    }
    MeshFile file;
    auto mesh = std::make_shared<Mesh>(meshOf(*scene, takePictures(*scene, path, file)));
    if (mesh->triangles.empty())
        return failure(Fault::input, "{}: holds no surface, only points or lines; write triangles", path.string());
    Eigen::AlignedBox3f box;
    for (const Vector3f& place : mesh->places) box.extend(place);
    if (!box.sizes().allFinite())
        return failure(Fault::input, "{}: has places that are no numbers; write it again", path.string());
    file.mesh = mesh;
    file.extents = box.sizes().cast<double>();
    // What is flat has a thickness of nothing, and stays flat.
    const Vector3f size = box.sizes().cwiseMax(1e-9F);
    const Vector3f foot(box.center().x(), box.min().y(), box.center().z());
    for (Vector3f& place : mesh->places) place = (place - foot).cwiseQuotient(size);
    for (Vector3f& normal : mesh->normals) normal = normal.cwiseProduct(size).normalized();
    file.extents = file.extents.cwiseMax(1e-6);
    if (mesh->triangles.size() <= kMostWithEdges) mesh->findEdges();
    return file;
}

struct Kept {
    std::filesystem::path path;
    std::uint64_t stamp, picturesStamp;
    Expected<MeshFile> file;  ///< what cannot be read is not read again and again either
};
std::mutex& keptMutex() {
    static std::mutex mutex;
    return mutex;
}
std::list<Kept>& keptMeshes() {
    static std::list<Kept> kept;  // the latest used first
    return kept;
}

std::uint64_t stampOfPictures(const Expected<MeshFile>& file) {
    Fingerprint print;
    if (file)
        for (const MeshFile::Skin& skin : file->skins) print.add(stampOf(skin.file));
    return print.value();
}

std::optional<Expected<MeshFile>> keptOf(const std::filesystem::path& path, std::uint64_t stamp) {
    auto& kept = keptMeshes();
    const auto found = std::find_if(kept.begin(), kept.end(), [&](const Kept& one) {
        return one.path == path && one.stamp == stamp && one.picturesStamp == stampOfPictures(one.file);
    });
    if (found == kept.end()) return std::nullopt;
    kept.splice(kept.begin(), kept, found);
    return kept.front().file;
}

}  // namespace

Expected<MeshFile> readMesh(const std::filesystem::path& path) {
    const std::uint64_t stamp = stampOf(path);
    {
        const std::lock_guard lock(keptMutex());
        if (auto known = keptOf(path, stamp)) return *std::move(known);
    }
    auto file = read(path);
    constexpr std::size_t kMost = 12;
    const std::lock_guard lock(keptMutex());
    keptMeshes().push_front({path, stamp, stampOfPictures(file), file});
    if (keptMeshes().size() > kMost) keptMeshes().pop_back();
    return file;
}

std::uint64_t stampOfMesh(const std::filesystem::path& path) {
    Fingerprint print;
    print.add(stampOf(path)).add(stampOfPictures(readMesh(path)));
    return print.value();
}

std::shared_ptr<const Mesh> knownMesh(const std::filesystem::path& path) {
    const std::uint64_t stamp = stampOf(path);
    const std::lock_guard lock(keptMutex());
    const auto known = keptOf(path, stamp);
    return known && *known ? (*known)->mesh : nullptr;
}

std::shared_ptr<const Mesh> shapeOf(const StandIn& standIn, int sides) {
    if (standIn.kind == StandInKind::locator) return nullptr;
    if (standIn.kind != StandInKind::mesh) return unitMesh(standIn.kind, sides);
    const auto file = readMesh(standIn.file);
    return file ? file->mesh : nullptr;
}

std::vector<MeshFile::Skin> skinsOf(const StandIn& standIn) {
    const auto file = standIn.kind == StandInKind::mesh ? readMesh(standIn.file) : MeshFile{};
    return file ? file->skins : std::vector<MeshFile::Skin>{};
}

}  // namespace pinion
