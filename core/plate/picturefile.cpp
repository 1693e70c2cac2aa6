#include "plate/picturefile.h"

#include <algorithm>
#include <cctype>
#include <cstdlib>
#include <fstream>
#include <map>
#include <set>

namespace pinion {
namespace {

namespace fs = std::filesystem;

constexpr int kFarthest_px = 1'000'000;  // that data lie beside the frame

/// A PNG that is cut off, before its library tells of it on the terminal: its chunks up to the last one (W3C, Portable
/// Network Graphics, 5.3).
std::string troubleOfFile(const fs::path& path) {
    std::ifstream file(path, std::ios::binary);
    std::array<unsigned char, 8> head{};
    constexpr std::array<unsigned char, 8> kPng{0x89, 'P', 'N', 'G', '\r', '\n', 0x1a, '\n'};
    const auto next = [&] { return bool(file.read(reinterpret_cast<char*>(head.data()), head.size())); };
    if (!next() || head != kPng) return {};
    std::error_code code;
    const auto size = std::int64_t(fs::file_size(path, code));
    for (std::int64_t at = 8; next();) {
        const std::uint32_t length =
            std::uint32_t(head[0]) << 24 | std::uint32_t(head[1]) << 16 | std::uint32_t(head[2]) << 8 | head[3];
        const bool isLast = std::equal(head.begin() + 4, head.end(), "IEND");
        at += 12 + std::int64_t(length);
        if (at > size) break;
        if (isLast) return {};
        file.seekg(at);
    }
    return "is damaged: it is cut off";
}

/// What keeps a part from being read; empty: nothing does.
std::string troubleOfPart(const OIIO::ImageSpec& spec) {
    if (spec.deep) return "is a deep picture, which has no one colour a pixel; flatten it";
    for (const auto& [width, height] : {std::pair(spec.width, spec.height), {spec.full_width, spec.full_height}})
        if (width > kMostPictureSide || height > kMostPictureSide ||
            std::int64_t(width) * std::max(1, height) > kMostPicturePixels)
            return fmt::format("says that it is {}x{} pixels; {} on a side and {} million in all are the most", width,
                               height, kMostPictureSide, kMostPicturePixels / 1'000'000);
    const auto isFar = [](int own, int frame) { return std::abs(std::int64_t(own) - frame) > kFarthest_px; };
    if (isFar(spec.x, spec.full_x) || isFar(spec.y, spec.full_y))
        return fmt::format("has its data at ({}, {}), far beside its frame at ({}, {})", spec.x, spec.y, spec.full_x,
                           spec.full_y);
    return {};
}

/// Not yet looked at closer.
Expected<std::unique_ptr<OIIO::ImageInput>> openedFile(const fs::path& path) {
    std::error_code code;
    // A pipe would be waited for without an end.
    if (!fs::is_regular_file(path, code)) return failure(Fault::input, "{}: is no file with a picture", path.string());
    if (const std::string trouble = troubleOfFile(path); !trouble.empty())
        return failure(Fault::input, "{}: {}", path.string(), trouble);
    // Values as they are stored: the library would multiply straight colours by their alpha.
    OIIO::ImageSpec wishes;
    wishes.attribute("oiio:UnassociatedAlpha", 1);
    auto input = OIIO::ImageInput::open(path.string(), &wishes);
    if (!input) return failure(Fault::input, "{}: cannot be read: {}", path.string(), OIIO::geterror());
    return input;
}

/// Depth and numbers of objects, by the names that are usual in EXR (OpenEXR, Technical Introduction).
bool isMeasureName(const std::string& channel) {
    const auto dot = channel.find_last_of('.');
    std::string name = dot == std::string::npos ? channel : channel.substr(dot + 1);
    for (char& letter : name) letter = char(std::tolower(static_cast<unsigned char>(letter)));
    static const std::set<std::string> kNames{"z", "zback", "depth", "id"};
    return kNames.contains(name);
}

Expected<PictureChannels> channelsOf(OIIO::ImageInput& input) {
    constexpr int kNoColours = 5, kNothing = 6;
    int rank = kNothing;  // the lower, the better
    PictureChannels best;
    std::string other;  // what it holds, where that is no colours but depth or another measure
    bool isDeep = false;
    for (int part = 0; input.seek_subimage(part, 0); ++part) {
        const OIIO::ImageSpec& spec = input.spec();
        isDeep = isDeep || spec.deep;
        if (spec.deep || spec.nchannels < 1 || int(spec.channelnames.size()) < spec.nchannels) continue;
        std::map<std::string, std::array<int, 4>> layers;  // red, green, blue, luminance
        const auto take = [&](const std::string& layer, int which, int channel) {
            layers.try_emplace(layer, std::array{-1, -1, -1, -1}).first->second[std::size_t(which)] = channel;
        };
        for (int c = 0; c < spec.nchannels; ++c) {
            const std::string& name = spec.channelnames[std::size_t(c)];
            const auto dot = name.find_last_of('.');
            const std::string layer = dot == std::string::npos ? "" : name.substr(0, dot);
            std::string last = dot == std::string::npos ? name : name.substr(dot + 1);
            for (char& letter : last) letter = char(std::tolower(static_cast<unsigned char>(letter)));
            static const std::map<std::string, int> kinds{{"r", 0},    {"red", 0}, {"g", 1},    {"green", 1}, {"b", 2},
                                                          {"blue", 2}, {"y", 3},   {"luma", 3}, {"l", 3}};
            if (const auto kind = kinds.find(last); kind != kinds.end()) take(layer, kind->second, c);
        }
        const auto offer = [&](int offered, std::array<int, 3> numbers, const std::string& names) {
            if (rank <= offered) return;
            const std::string partName = spec.get_string_attribute("oiio:subimagename", std::to_string(part + 1));
            rank = offered;
            best.part = part;
            best.numbers = numbers;
            best.words = part > 0 ? fmt::format("{} of part '{}'", names, partName) : rank > 0 ? names : "";
        };
        const auto nameOf = [&](int c) { return spec.channelnames[std::size_t(c)]; };
        for (const auto& [layer, c] : layers)
            if (c[0] >= 0 && c[1] >= 0 && c[2] >= 0)
                offer(layer.empty() ? 0 : 1, {c[0], c[1], c[2]},
                      fmt::format("channels {}, {}, {}", nameOf(c[0]), nameOf(c[1]), nameOf(c[2])));
            else if (c[3] >= 0) offer(2, {c[3], c[3], c[3]}, "channel " + nameOf(c[3]));
        if (std::all_of(spec.channelnames.begin(), spec.channelnames.end(), isMeasureName)) {
            if (rank == kNothing) other = nameOf(0);
            offer(kNoColours, {0, 0, 0}, "");
        } else if (spec.nchannels == 1 && part == 0 && layers.empty()) {
            // A grey picture of a format that names no channels, or one channel whatever it is called.
            offer(spec.format == OIIO::TypeDesc::UINT8 ? 0 : 3, {0, 0, 0}, "channel " + nameOf(0));
        } else {
            const int last = spec.nchannels - 1;
            offer(4, {0, std::min(1, last), std::min(2, last)},
                  fmt::format("channels {}, {}, {}", nameOf(0), nameOf(std::min(1, last)), nameOf(std::min(2, last))));
        }
    }
    if (rank == kNothing)
        return failure(Fault::input, "{}",
                       isDeep ? "is a deep picture, which has no one colour a pixel; flatten it" : "holds no picture");
    if (rank == kNoColours)
        return failure(Fault::input, "holds no colours, but {}; choose a file with red, green and blue", other);
    return best;
}

}  // namespace

Expected<std::unique_ptr<OIIO::ImageInput>> openImageFile(const fs::path& path) {
    auto input = openedFile(path);
    if (!input) return input;
    if (const std::string trouble = troubleOfPart((*input)->spec()); !trouble.empty())
        return failure(Fault::input, "{}: {}", path.string(), trouble);
    return input;
}

Expected<PictureFile> openPictureFile(const fs::path& path) {
    auto input = openedFile(path);
    if (!input) return tl::unexpected(input.error());
    auto channels = channelsOf(**input);
    if (!channels) return failure(Fault::input, "{}: {}", path.string(), channels.error().message);
    (*input)->seek_subimage(channels->part, 0);
    if (const std::string trouble = troubleOfPart((*input)->spec()); !trouble.empty())
        return failure(Fault::input, "{}: {}", path.string(), trouble);
    return PictureFile{std::move(*input), *std::move(channels)};
}

}  // namespace pinion
