#include "base/json.h"
#include "plate/sources.h"

#include <OpenImageIO/imageio.h>
#include <algorithm>
#include <array>
#include <cctype>
#include <charconv>
#include <fstream>
#include <map>
#include <optional>
#include <regex>
#include <set>

namespace pinion {
namespace {

namespace fs = std::filesystem;

constexpr int kLastNumber = 100'000'000;

struct Size {
    int width = 0, height = 0;
    auto operator<=>(const Size&) const = default;
};
Size sizeOf(const OIIO::ImageSpec& spec) {
    return {spec.full_width > 0 ? spec.full_width : spec.width, spec.full_height > 0 ? spec.full_height : spec.height};
}

constexpr int kMostSide = 65536;
constexpr std::int64_t kMostPixels = 400'000'000;

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

/// Opens a frame. A pipe would be waited for without an end.
std::unique_ptr<OIIO::ImageInput> openedFrame(const fs::path& path, std::string& error) {
    std::error_code code;
    if (!fs::is_regular_file(path, code)) {
        error = "is no file with a picture";
        return nullptr;
    }
    if (const std::string trouble = troubleOfFile(path); !trouble.empty()) {
        error = trouble;
        return nullptr;
    }
    // Values as they are stored: the library would multiply straight colours by their alpha.
    OIIO::ImageSpec wishes;
    wishes.attribute("oiio:UnassociatedAlpha", 1);
    auto input = OIIO::ImageInput::open(path.string(), &wishes);
    if (!input) {
        error = "cannot be read: " + OIIO::geterror();
        return nullptr;
    }
    const OIIO::ImageSpec& spec = input->spec();
    if (spec.deep) error = "is a deep picture, which has no one colour a pixel; flatten it";
    else if (spec.width > kMostSide || spec.height > kMostSide || std::int64_t(spec.width) * spec.height > kMostPixels)
        error = fmt::format("says that it is {}x{} pixels; {} on a side and {} million in all are the most", spec.width,
                            spec.height, kMostSide, kMostPixels / 1'000'000);
    if (!error.empty()) return nullptr;
    return input;
}

/// What of a file is the picture.
struct Channels {
    int part = 0;
    std::array<int, 3> numbers{0, 1, 2};
    std::string words;  ///< which ones, when it was not obvious
    std::string other;  ///< what it holds, where that is no colours but depth or another measure
};

/// Depth and numbers of objects, by the names that are usual in EXR (OpenEXR, Technical Introduction).
bool isMeasureName(const std::string& channel) {
    const auto dot = channel.find_last_of('.');
    std::string name = dot == std::string::npos ? channel : channel.substr(dot + 1);
    for (char& letter : name) letter = char(std::tolower(static_cast<unsigned char>(letter)));
    static const std::set<std::string> kNames{"z", "zback", "depth", "id"};
    return kNames.contains(name);
}

/// Red, green and blue by their names; in the first part that has them, without a layer's name before one with; then
/// what is called luminance; then the first channels there are.
Channels channelsOf(OIIO::ImageInput& input) {
    struct Found {
        int rank;
        Channels channels;
    };
    std::optional<Found> best;
    for (int part = 0; input.seek_subimage(part, 0); ++part) {
        const OIIO::ImageSpec& spec = input.spec();
        std::map<std::string, std::array<int, 4>> layers;  // red, green, blue, luminance
        const auto take = [&](const std::string& layer, int which, int channel) {
            layers.try_emplace(layer, std::array{-1, -1, -1, -1}).first->second[std::size_t(which)] = channel;
        };
        for (int c = 0; c < spec.nchannels && c < int(spec.channelnames.size()); ++c) {
            const std::string& name = spec.channelnames[std::size_t(c)];
            const auto dot = name.find_last_of('.');
            const std::string layer = dot == std::string::npos ? "" : name.substr(0, dot);
            std::string last = dot == std::string::npos ? name : name.substr(dot + 1);
            for (char& letter : last) letter = char(std::tolower(static_cast<unsigned char>(letter)));
            static const std::map<std::string, int> kinds{{"r", 0},    {"red", 0}, {"g", 1},    {"green", 1}, {"b", 2},
                                                          {"blue", 2}, {"y", 3},   {"luma", 3}, {"l", 3}};
            if (const auto kind = kinds.find(last); kind != kinds.end()) take(layer, kind->second, c);
        }
        const auto offer = [&](int rank, std::array<int, 3> numbers, const std::string& names) {
            if (best && best->rank <= rank) return;
            const std::string partName = spec.get_string_attribute("oiio:subimagename", std::to_string(part + 1));
            std::string words = part > 0 ? fmt::format("{} of part '{}'", names, partName) : names;
            if (rank == 0 && part == 0) words.clear();
            best = {rank, {part, numbers, words}};
        };
        const auto nameOf = [&](int c) { return spec.channelnames[std::size_t(c)]; };
        for (const auto& [layer, c] : layers)
            if (c[0] >= 0 && c[1] >= 0 && c[2] >= 0)
                offer(layer.empty() ? 0 : 1, {c[0], c[1], c[2]},
                      fmt::format("channels {}, {}, {}", nameOf(c[0]), nameOf(c[1]), nameOf(c[2])));
            else if (c[3] >= 0) offer(2, {c[3], c[3], c[3]}, "channel " + nameOf(c[3]));
        if (std::all_of(spec.channelnames.begin(), spec.channelnames.end(), isMeasureName)) {
            if (!best) best = {5, {part, {0, 0, 0}, "", nameOf(0)}};
        } else if (spec.nchannels == 1 && part == 0 && layers.empty()) {
            // A grey picture of a format that names no channels, or one channel whatever it is called.
            offer(spec.format == OIIO::TypeDesc::UINT8 ? 0 : 3, {0, 0, 0}, "channel " + nameOf(0));
        } else {
            const int last = spec.nchannels - 1;
            offer(4, {0, std::min(1, last), std::min(2, last)},
                  fmt::format("channels {}, {}, {}", nameOf(0), nameOf(std::min(1, last)), nameOf(std::min(2, last))));
        }
    }
    return best ? best->channels : Channels{};
}

std::string noColours(const Channels& channels) {
    return fmt::format("holds no colours, but {}; choose a file with red, green and blue", channels.other);
}

class SequencePlate final : public Plate {
public:
    /// `hasWindows`: the files say their windows themselves.
    SequencePlate(PlateFacts facts, std::map<int, fs::path> files, bool hasWindows = false)
        : files_(std::move(files)), hasWindows_(hasWindows) {
        facts_ = std::move(facts);
    }

    Expected<PicturePtr> read(int frame) const override {
        const auto file = files_.find(frame);
        if (file == files_.end()) {
            if (facts_.holds(frame))
                return failure(Fault::input, "{}: frame {} is missing", facts_.path.string(), frame);
            return failure(Fault::input, "{}: has no frame {} (it holds {}-{})", facts_.path.string(), frame,
                           facts_.firstFrame, facts_.lastFrame);
        }
        const std::string name = file->second.string();
        std::string error;
        const auto input = openedFrame(file->second, error);
        if (!input) return failure(Fault::input, "{}: {}", name, error);
        const Channels channels = channelsOf(*input);
        if (!channels.other.empty()) return failure(Fault::input, "{}: {}", name, noColours(channels));
        input->seek_subimage(channels.part, 0);
        const OIIO::ImageSpec spec = input->spec();
        const Size size = sizeOf(spec), expected = frameSize();
        if (size != expected)
            return failure(Fault::input, "{}: is {}x{}, but the sequence is {}x{}; re-render or remove this frame",
                           name, size.width, size.height, expected.width, expected.height);
        auto picture = std::make_shared<Picture>();
        picture->width = facts_.width;
        picture->height = facts_.height;
        picture->linear = facts_.linear;
        const bool bytes = spec.format == OIIO::TypeDesc::UINT8;
        picture->depth = bytes ? Picture::Depth::bits8 : Picture::Depth::float32;
        const auto type = bytes ? OIIO::TypeDesc::UINT8 : OIIO::TypeDesc::FLOAT;
        const bool read = bytes ? readInto(*input, channels, type, picture->bytes)
                                : readInto(*input, channels, type, picture->floats);
        if (!read) return failure(Fault::input, "{}: is damaged: {}", name, input->geterror());
        return picture;
    }

    Expected<std::optional<Plane>> readAlpha(int frame) const override {
        const auto file = files_.find(frame);
        if (file == files_.end()) return failure(Fault::input, "{}: frame {} is missing", facts_.path.string(), frame);
        std::string error;
        const auto input = openedFrame(file->second, error);
        if (!input) return failure(Fault::input, "{}: {}", file->second.string(), error);
        Channels channels = channelsOf(*input);
        input->seek_subimage(channels.part, 0);
        const int alpha = input->spec().alpha_channel;
        if (alpha < 0) return std::optional<Plane>();
        if (sizeOf(input->spec()) != frameSize())
            return failure(Fault::input, "{}: is of another size than the sequence", file->second.string());
        channels.numbers = {alpha, alpha, alpha};
        std::vector<float> values;
        if (!readInto(*input, channels, OIIO::TypeDesc::FLOAT, values))
            return failure(Fault::input, "{}: is damaged: {}", file->second.string(), input->geterror());
        Plane plane(facts_.width, facts_.height);
        for (std::size_t i = 0; i < plane.values.size(); ++i) plane.values[i] = values[3 * i];
        return std::optional<Plane>(std::move(plane));
    }

    fs::path fileOf(int frame) const override {
        const auto file = files_.find(frame);
        return file == files_.end() ? fs::path() : file->second;
    }

    /// Those whose head cannot be read or tells another size.
    std::vector<int> damagedFrames(const Progress& progress) const override {
        std::vector<int> damaged;
        std::size_t done = 0;
        for (const auto& [frame, path] : files_) {
            if (progress.stopped()) break;
            std::string error;
            const auto input = openedFrame(path, error);
            if (!input || sizeOf(input->spec()) != frameSize()) damaged.push_back(frame);
            progress.report(double(++done) / double(files_.size()), "Looking for damaged frames");
        }
        return damaged;
    }

private:
    /// Of the display window; of pictures without one their own.
    Size frameSize() const {
        const bool windows = facts_.window && hasWindows_;
        return windows ? Size{facts_.window->width, facts_.window->height} : Size{facts_.width, facts_.height};
    }
    /// Reads the data window into the display window (or into all of the sequence's), grey spread to three channels,
    /// alpha dropped.
    template <class Value>
    bool readInto(OIIO::ImageInput& input, const Channels& channels, OIIO::TypeDesc type,
                  std::vector<Value>& out) const {
        const OIIO::ImageSpec spec = input.spec();
        const auto [low, high] = std::minmax_element(channels.numbers.begin(), channels.numbers.end());
        const int first = *low, count = *high - *low + 1;
        std::vector<Value> data(std::size_t(spec.width) * std::size_t(spec.height) * std::size_t(count));
        if (!input.read_image(channels.part, 0, first, first + count, type, data.data())) return false;
        const int width = facts_.width, height = facts_.height;
        const int left = facts_.window && hasWindows_ ? facts_.window->x0 : 0;
        const int top = facts_.window && hasWindows_ ? facts_.window->y0 : 0;
        const int atX = spec.x - spec.full_x - left, atY = spec.y - spec.full_y - top;
        const bool inOrder = channels.numbers == std::array{first, first + 1, first + 2};
        if (inOrder && spec.width == width && spec.height == height && atX == 0 && atY == 0) {
            out = std::move(data);
            return true;
        }
        out.assign(std::size_t(width) * std::size_t(height) * 3, Value(0));
        for (int y = 0; y < spec.height; ++y) {
            const int toY = atY + y;
            if (toY < 0 || toY >= height) continue;
            for (int x = 0; x < spec.width; ++x) {
                const int toX = atX + x;
                if (toX < 0 || toX >= width) continue;
                for (std::size_t c = 0; c < 3; ++c)
                    out[(std::size_t(toY) * std::size_t(width) + std::size_t(toX)) * 3 + c] =
                        data[(std::size_t(y) * std::size_t(spec.width) + std::size_t(x)) * std::size_t(count) +
                             std::size_t(channels.numbers[c] - first)];
            }
        }
        return true;
    }

    std::map<int, fs::path> files_;
    bool hasWindows_;
};

/// Sets the size that most of a sample of the frames have and remarks the others; returns a frame of that size. Broken
/// and odd frames are reported when they are read.
Expected<int> setSize(PlateFacts& facts, const std::map<int, fs::path>& files) {
    constexpr std::size_t kSample = 21;
    std::map<Size, std::vector<int>> sizes;
    std::string broken;
    const auto look = [&](int frame, const fs::path& path) {
        std::string error;
        const auto input = openedFrame(path, error);
        if (!input) {
            if (broken.empty()) broken = fmt::format("{}: {}", path.string(), error);
            return;
        }
        const Channels channels = channelsOf(*input);
        if (!channels.other.empty()) {
            if (broken.empty()) broken = fmt::format("{}: {}", path.string(), noColours(channels));
            return;
        }
        input->seek_subimage(channels.part, 0);
        sizes[sizeOf(input->spec())].push_back(frame);
    };
    for (std::size_t i = 0; const auto& [frame, path] : files) {
        const std::size_t step = std::max<std::size_t>(1, (files.size() + kSample - 1) / kSample);
        if (i % step == 0 || i + 1 == files.size()) look(frame, path);
        ++i;
    }
    // None of the sample opens: the first that does.
    for (auto file = files.begin(); file != files.end() && sizes.empty(); ++file) look(file->first, file->second);
    if (sizes.empty()) return failure(Fault::input, "{}", broken);
    const auto most = std::max_element(sizes.begin(), sizes.end(), [](const auto& a, const auto& b) {
        return a.second.size() != b.second.size() ? a.second.size() < b.second.size()
                                                  : a.second.front() > b.second.front();
    });
    facts.width = most->first.width;
    facts.height = most->first.height;
    for (const auto& [size, frames] : sizes)
        if (size != most->first)
            facts.remarks.push_back(fmt::format("{} {}x{} where the others are {}x{}: passed over",
                                                frameRanges(frames) + (frames.size() == 1 ? " is" : " are"), size.width,
                                                size.height, facts.width, facts.height));
    return most->second.front();
}

/// Where all data windows lie about the frame, from every header; the picture becomes as large. None when there is
/// nothing about it.
void setWindow(PlateFacts& facts, const std::map<int, fs::path>& files) {
    int x0 = 0, y0 = 0, x1 = facts.width, y1 = facts.height;
    for (const auto& [frame, path] : files) {
        std::string error;
        const auto input = openedFrame(path, error);
        if (!input) continue;
        input->seek_subimage(channelsOf(*input).part, 0);
        const OIIO::ImageSpec& spec = input->spec();
        if (sizeOf(spec) != Size{facts.width, facts.height}) continue;
        x0 = std::min(x0, spec.x - spec.full_x);
        y0 = std::min(y0, spec.y - spec.full_y);
        x1 = std::max(x1, spec.x - spec.full_x + spec.width);
        y1 = std::max(y1, spec.y - spec.full_y + spec.height);
    }
    facts.window = FrameWindow{facts.width, facts.height, x0, y0};
    facts.width = x1 - x0;
    facts.height = y1 - y0;
}

/// What "name.overscan.json" beside pictures without windows says of them; false where there is none.
Expected<bool> setNotedWindow(PlateFacts& facts, const SequenceName& name) {
    // The frame's place stands in the name too: "name.o32x18.####.png".
    std::string before = name.before;
    static const std::regex place("o-?[0-9]+x-?[0-9]+\\.$");
    before = std::regex_replace(before, place, "");
    const fs::path file = name.folder / (before + "overscan.json");
    std::error_code code;
    if (!fs::exists(file, code)) return false;
    const auto window = jsonfile::parseFile(file, [](const jsonfile::json& document) {
        jsonfile::expectFormat(document, "pinion.overscan", 1);
        const jsonfile::json& box = jsonfile::list(document, "data_window", "file");
        if (box.size() != 4) jsonfile::malformed("data_window: has to be four numbers");
        FrameWindow read{jsonfile::whole(document, "width", "file"), jsonfile::whole(document, "height", "file")};
        read.x0 = int(jsonfile::number(box[0], "data_window[0]"));
        read.y0 = int(jsonfile::number(box[1], "data_window[1]"));
        return std::array<int, 6>{read.width,
                                  read.height,
                                  read.x0,
                                  read.y0,
                                  int(jsonfile::number(box[2], "data_window[2]")),
                                  int(jsonfile::number(box[3], "data_window[3]"))};
    });
    if (!window) return tl::unexpected(window.error());
    const auto [width, height, x0, y0, x1, y1] = *window;
    if (x1 - x0 != facts.width || y1 - y0 != facts.height)
        return failure(Fault::input, "{}: says {}x{}, the pictures are {}x{}", file.string(), x1 - x0, y1 - y0,
                       facts.width, facts.height);
    facts.window = FrameWindow{width, height, x0, y0};
    return true;
}

/// As its format has it, or as it says; none: nobody can tell.
std::optional<AlphaKind> alphaKindOf(const OIIO::ImageInput& input) {
    const std::string format = input.format_name();
    if (format == "openexr") return AlphaKind::premultiplied;
    if (format == "png") return AlphaKind::straight;
    if (format != "tiff") return std::nullopt;
    // Of ExtraSamples the library keeps whether they are unassociated.
    return input.spec().get_int_attribute("oiio:UnassociatedAlpha") ? AlphaKind::straight : AlphaKind::premultiplied;
}

/// What one frame's header says of all of them.
void setFromHeader(PlateFacts& facts, const OIIO::ImageInput& input) {
    const OIIO::ImageSpec& spec = input.spec();
    if (spec.alpha_channel >= 0) facts.alphaKind = alphaKindOf(input);
    facts.pixelAspect = spec.get_float_attribute("PixelAspectRatio", 1.0F);
    if (!(facts.pixelAspect > 0.01 && facts.pixelAspect < 100)) facts.pixelAspect = 1;
    remarkAspect(facts);
    const char* const kind = spec.nchannels == 1 ? "grey" : spec.nchannels == 4 ? "rgba" : "rgb";
    facts.pixelFormat = fmt::format("{} {}", kind, spec.format.c_str());
    facts.linear = spec.format == OIIO::TypeDesc::HALF || spec.format == OIIO::TypeDesc::FLOAT;
    facts.fpsFromPlate = false;
    int rational[2] = {0, 0};
    if (spec.getattribute("FramesPerSecond", OIIO::TypeRational, rational) && rational[0] > 0 && rational[1] > 0) {
        facts.fps = reduced({rational[0], rational[1]});
        facts.fpsFromPlate = true;
    } else if (const float rate =
                   spec.get_float_attribute("dpx:FrameRate", spec.get_float_attribute("FramesPerSecond", 0.0F));
               rate > 0.5F && rate < 1000.0F) {
        facts.fps = frameRateNear(rate);
        facts.fpsFromPlate = true;
    }
}

}  // namespace

Expected<std::map<int, fs::path>> framesOf(const SequenceName& name) {
    const fs::path folder = name.folder.empty() ? fs::path(".") : name.folder;
    std::map<int, fs::path> files;
    std::error_code code;
    for (const auto& entry : fs::directory_iterator(folder, code)) {
        const std::string file = entry.path().filename().string();
        if (file.size() <= name.before.size() + name.after.size() || !file.starts_with(name.before) ||
            !file.ends_with(name.after))
            continue;
        const std::string_view digits =
            std::string_view(file).substr(name.before.size(), file.size() - name.before.size() - name.after.size());
        int number = 0;
        const auto [end, result] = std::from_chars(digits.data(), digits.data() + digits.size(), number);
        if (result == std::errc() && end == digits.data() + digits.size() && number >= 0 && number <= kLastNumber)
            files[number] = entry.path();
    }
    if (code) return failure(Fault::input, "{}: the folder cannot be read: {}", folder.string(), code.message());
    return files;
}

Expected<std::shared_ptr<const Plate>> openPicture(const fs::path& path, int frame) {
    PlateFacts facts;
    facts.path = path;
    facts.kind = PlateKind::sequence;
    facts.firstFrame = facts.lastFrame = frame;
    const std::map<int, fs::path> files{{frame, path}};
    if (const auto sized = setSize(facts, files); !sized) return tl::unexpected(sized.error());
    std::string error;
    const auto input = openedFrame(path, error);
    if (!input) return failure(Fault::input, "{}: {}", path.string(), error);
    input->seek_subimage(channelsOf(*input).part, 0);
    setFromHeader(facts, *input);
    return std::make_shared<SequencePlate>(std::move(facts), files);
}

Expected<PicturePtr> readStill(const fs::path& path) {
    const auto plate = openPicture(path, 1);
    return plate ? (*plate)->read(1) : tl::unexpected(plate.error());
}

Expected<std::shared_ptr<const Plate>> openSequence(const SequenceName& name, const PlateOptions& options) {
    const std::string pattern = (name.folder / (name.before + "####" + name.after)).string();
    auto files = framesOf(name);
    if (!files) return tl::unexpected(files.error());
    if (files->empty()) return failure(Fault::input, "{}: no frame of this sequence was found", pattern);

    PlateFacts facts;
    facts.path = pattern;
    facts.kind = PlateKind::sequence;
    facts.firstFrame = files->begin()->first;
    facts.lastFrame = files->rbegin()->first;
    // A number that is no frame's, a date for one, would make a sequence of gaps.
    if (facts.frameCount() > 1'000'000 || std::size_t(facts.frameCount()) > 1000 + 1000 * files->size())
        return failure(Fault::input, "{}: frames {} and {} are too far apart for one sequence", pattern,
                       facts.firstFrame, facts.lastFrame);
    for (int frame = facts.firstFrame; frame <= facts.lastFrame; ++frame)
        if (!files->contains(frame)) facts.missing.push_back(frame);

    const auto usual = setSize(facts, *files);
    if (!usual) return tl::unexpected(usual.error());
    std::string error;
    const auto input = openedFrame(files->at(*usual), error);
    if (!input) return failure(Fault::input, "{}: {}", files->at(*usual).string(), error);
    const Channels channels = channelsOf(*input);
    input->seek_subimage(channels.part, 0);
    if (!channels.words.empty()) facts.remarks.push_back(channels.words + " are used for the picture");
    setFromHeader(facts, *input);
    if (options.fps) {
        facts.fps = *options.fps;
        facts.fpsFromPlate = true;
    }
    bool hasWindows = false;
    if (options.overscan) {
        const auto noted = setNotedWindow(facts, name);
        if (!noted) return tl::unexpected(noted.error());
        hasWindows = !*noted;
        if (hasWindows) setWindow(facts, *files);
    }
    return std::make_shared<SequencePlate>(std::move(facts), std::move(*files), hasWindows);
}

}  // namespace pinion
