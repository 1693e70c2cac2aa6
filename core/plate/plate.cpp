#include "plate/plate.h"

#include "base/files.h"
#include "base/utf8.h"
#include "plate/sources.h"

#include <algorithm>
#include <cctype>
#include <cmath>
#include <map>
#include <regex>

namespace pinion {
namespace {

namespace fs = std::filesystem;

bool isVideo(const fs::path& path) {
    static const char* const endings[] = {".mp4", ".mov", ".mkv",  ".avi", ".mxf", ".webm",
                                          ".m4v", ".mpg", ".mpeg", ".ts",  ".mts", ".ogv"};
    const std::string ending = loweredEnding(path);
    return std::any_of(std::begin(endings), std::end(endings), [&](const char* e) { return ending == e; });
}

/// Cuts the last run of digits out of a picture's file name: it is the frame number.
std::optional<SequenceName> nameOfFrame(const fs::path& file) {
    const std::string stem = file.stem().string();
    const auto last = stem.find_last_of("0123456789");
    if (last == std::string::npos) return std::nullopt;
    auto first = last;
    while (first > 0 && std::isdigit(static_cast<unsigned char>(stem[first - 1]))) --first;
    return SequenceName{file.parent_path(), stem.substr(0, first), stem.substr(last + 1) + file.extension().string()};
}

std::optional<SequenceName> nameOfPattern(const fs::path& path) {
    static const std::regex number("%0?\\d*d|#+");
    const std::string name = path.filename().string();
    std::smatch match;
    if (!std::regex_search(name, match, number)) return std::nullopt;
    return SequenceName{path.parent_path(), match.prefix().str(), match.suffix().str()};
}

Expected<std::shared_ptr<const Plate>> openFolder(const fs::path& folder, const PlateOptions& options,
                                                  const Progress& progress) {
    std::map<std::string, SequenceName> sequences;
    std::vector<fs::path> videos;
    std::error_code code;
    for (const auto& entry : fs::directory_iterator(folder, code)) {
        if (!entry.is_regular_file(code) || entry.path().filename().string().starts_with('.')) continue;
        if (isVideo(entry.path())) videos.push_back(entry.path());
        if (isPictureName(entry.path()))
            if (const auto name = nameOfFrame(entry.path()))
                sequences.emplace(name->before + "####" + name->after, *name);
    }
    if (code) return failure(Fault::input, "{}: the folder cannot be read: {}", folder.string(), code.message());
    if (sequences.size() + videos.size() > 1) {
        std::string found;
        for (const auto& [pattern, name] : sequences) found += (found.empty() ? "" : ", ") + pattern;
        for (const auto& video : videos) found += (found.empty() ? "" : ", ") + video.filename().string();
        return failure(Fault::input, "{}: the folder holds more than one plate ({}): name one", folder.string(), found);
    }
    if (!sequences.empty()) return openSequence(sequences.begin()->second, options);
    if (!videos.empty()) return openVideo(videos.front(), options, progress);
    return failure(Fault::input, "{}: the folder holds no video and no numbered pictures", folder.string());
}

}  // namespace

Expected<std::shared_ptr<const Plate>> Plate::open(const fs::path& path, const PlateOptions& options,
                                                   const Progress& progress) {
    std::error_code code;
    if (path.empty()) return failure(Fault::input, "no plate was named");
    // Shots and deliveries are text; a name that is none could not be found again.
    if (!isUtf8(path.string()))
        return failure(Fault::input, "{}: the name is not UTF-8; rename the file or its folder", asUtf8(path.string()));
    if (fs::is_directory(path, code)) return openFolder(path, options, progress);
    if (!fs::exists(path, code)) {
        if (const auto name = nameOfPattern(path)) return openSequence(*name, options);
        return failure(Fault::input, "{}: there is no such file", path.string());
    }
    if (isPictureName(path)) {
        if (const auto name = nameOfFrame(path)) return openSequence(*name, options);
        return failure(Fault::input,
                       "{}: a single picture without a frame number is no plate; number it, as in name.1001{}",
                       path.string(), path.extension().string());
    }
    if (!fs::is_regular_file(path, code))
        return failure(Fault::input, "{}: is no file but a pipe or a device", path.string());
    return openVideo(path, options, progress);
}

bool isPictureName(const fs::path& path) {
    static const char* const endings[] = {".exr",  ".dpx", ".tif", ".tiff", ".png", ".jpg",
                                          ".jpeg", ".bmp", ".tga", ".hdr",  ".cin"};
    const std::string ending = loweredEnding(path);
    return std::any_of(std::begin(endings), std::end(endings), [&](const char* e) { return ending == e; });
}

fs::path sequenceAround(const fs::path& file) {
    const auto name = isPictureName(file) ? nameOfFrame(file) : std::nullopt;
    return name ? name->folder / (name->before + "####" + name->after) : fs::path();
}

std::vector<fs::path> picturesAround(const fs::path& fileOrPattern) {
    auto name = nameOfPattern(fileOrPattern);
    if (!name && isPictureName(fileOrPattern)) name = nameOfFrame(fileOrPattern);
    std::vector<fs::path> pictures;
    if (!name) return pictures;
    if (const auto files = framesOf(*name))
        for (const auto& [number, file] : *files) pictures.push_back(file);
    return pictures;
}

void remarkAspect(PlateFacts& facts) {
    if (std::abs(facts.pixelAspect - 1) > 0.001)
        facts.remarks.push_back(
            fmt::format("its pixels are {:g} times as wide as high: a squeeze of {:.4g} is taken for the lens",
                        std::round(facts.pixelAspect * 1e4) / 1e4, 1 / facts.pixelAspect));
}

}  // namespace pinion
