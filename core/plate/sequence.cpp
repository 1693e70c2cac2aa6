#include "base/json.h"
#include "plate/picturefile.h"
#include "plate/sources.h"

#include <OpenImageIO/imageio.h>
#include <algorithm>
#include <array>
#include <charconv>
#include <map>
#include <optional>
#include <regex>

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
        const auto opened = openPictureFile(file->second);
        if (!opened) return tl::unexpected(opened.error());
        const auto& [input, channels] = *opened;
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

    Expected<std::optional<ImageChannel>> readAlpha(int frame) const override {
        const auto file = files_.find(frame);
        if (file == files_.end()) return failure(Fault::input, "{}: frame {} is missing", facts_.path.string(), frame);
        auto opened = openPictureFile(file->second);
        if (!opened) return tl::unexpected(opened.error());
        auto& [input, channels] = *opened;
        const int alpha = input->spec().alpha_channel;
        if (alpha < 0) return std::optional<ImageChannel>();
        if (sizeOf(input->spec()) != frameSize())
            return failure(Fault::input, "{}: is of another size than the sequence", file->second.string());
        channels.numbers = {alpha, alpha, alpha};
        std::vector<float> values;
        if (!readInto(*input, channels, OIIO::TypeDesc::FLOAT, values))
            return failure(Fault::input, "{}: is damaged: {}", file->second.string(), input->geterror());
        ImageChannel plane(facts_.width, facts_.height);
        for (std::size_t i = 0; i < plane.values.size(); ++i) plane.values[i] = values[3 * i];
        return std::optional<ImageChannel>(std::move(plane));
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
            const auto opened = openPictureFile(path);
            if (!opened || sizeOf(opened->input->spec()) != frameSize()) damaged.push_back(frame);
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
    bool readInto(OIIO::ImageInput& input, const PictureChannels& channels, OIIO::TypeDesc type,
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
        const auto opened = openPictureFile(path);
        if (opened) sizes[sizeOf(opened->input->spec())].push_back(frame);
        else if (broken.empty()) broken = opened.error().message;
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
Expected<void> setWindow(PlateFacts& facts, const std::map<int, fs::path>& files) {
    int x0 = 0, y0 = 0, x1 = facts.width, y1 = facts.height;
    for (const auto& [frame, path] : files) {
        const auto opened = openPictureFile(path);
        if (!opened) continue;
        const OIIO::ImageSpec& spec = opened->input->spec();
        if (sizeOf(spec) != Size{facts.width, facts.height}) continue;
        x0 = std::min(x0, spec.x - spec.full_x);
        y0 = std::min(y0, spec.y - spec.full_y);
        x1 = std::max(x1, spec.x - spec.full_x + spec.width);
        y1 = std::max(y1, spec.y - spec.full_y + spec.height);
    }
    if (x1 - x0 > kMostPictureSide || y1 - y0 > kMostPictureSide ||
        std::int64_t(x1 - x0) * (y1 - y0) > kMostPicturePixels)
        return failure(Fault::input, "{}: its data windows together are {}x{} pixels, too many", facts.path.string(),
                       x1 - x0, y1 - y0);
    facts.window = FrameWindow{facts.width, facts.height, x0, y0};
    facts.width = x1 - x0;
    facts.height = y1 - y0;
    return {};
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
        read.x0 = jsonfile::whole(box[0], "data_window[0]");
        read.y0 = jsonfile::whole(box[1], "data_window[1]");
        return std::array<int, 6>{read.width,
                                  read.height,
                                  read.x0,
                                  read.y0,
                                  jsonfile::whole(box[2], "data_window[2]"),
                                  jsonfile::whole(box[3], "data_window[3]")};
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
    const auto opened = openPictureFile(path);
    if (!opened) return tl::unexpected(opened.error());
    setFromHeader(facts, *opened->input);
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
    const auto opened = openPictureFile(files->at(*usual));
    if (!opened) return tl::unexpected(opened.error());
    if (!opened->channels.words.empty()) facts.remarks.push_back(opened->channels.words + " are used for the picture");
    setFromHeader(facts, *opened->input);
    if (options.fps) {
        facts.fps = *options.fps;
        facts.fpsFromPlate = true;
    }
    bool hasWindows = false;
    if (options.overscan) {
        const auto noted = setNotedWindow(facts, name);
        if (!noted) return tl::unexpected(noted.error());
        hasWindows = !*noted;
        if (hasWindows)
            if (const auto set = setWindow(facts, *files); !set) return tl::unexpected(set.error());
    }
    return std::make_shared<SequencePlate>(std::move(facts), std::move(*files), hasWindows);
}

}  // namespace pinion
