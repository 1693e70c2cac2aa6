#include "plate/sources.h"

#include <OpenImageIO/imageio.h>
#include <algorithm>
#include <charconv>
#include <map>

namespace pinion {
namespace {

namespace fs = std::filesystem;

class SequencePlate final : public Plate {
public:
    SequencePlate(PlateFacts facts, std::map<int, fs::path> files) : files_(std::move(files)) {
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
        const auto input = OIIO::ImageInput::open(name);
        if (!input) return failure(Fault::input, "{}: cannot be read: {}", name, OIIO::geterror());
        const OIIO::ImageSpec spec = input->spec();
        const int width = spec.full_width > 0 ? spec.full_width : spec.width;
        const int height = spec.full_height > 0 ? spec.full_height : spec.height;
        if (width != facts_.width || height != facts_.height)
            return failure(Fault::input, "{}: is {}x{}, but the sequence is {}x{}; re-render or remove this frame",
                           name, width, height, facts_.width, facts_.height);
        auto picture = std::make_shared<Picture>();
        picture->width = width;
        picture->height = height;
        picture->linear = facts_.linear;
        const bool bytes = spec.format == OIIO::TypeDesc::UINT8;
        picture->depth = bytes ? Picture::Depth::bits8 : Picture::Depth::float32;
        const auto type = bytes ? OIIO::TypeDesc::UINT8 : OIIO::TypeDesc::FLOAT;
        const std::size_t count = std::size_t(width) * std::size_t(height) * 3;
        const bool read = bytes ? readInto(*input, spec, type, picture->bytes, count)
                                : readInto(*input, spec, type, picture->floats, count);
        if (!read) return failure(Fault::input, "{}: is damaged: {}", name, input->geterror());
        return picture;
    }

private:
    /// Reads the data window into the display window, grey spread to three channels, alpha dropped.
    template <class Value>
    static bool readInto(OIIO::ImageInput& input, const OIIO::ImageSpec& spec, OIIO::TypeDesc type,
                         std::vector<Value>& out, std::size_t count) {
        const int channels = std::min(spec.nchannels, 3);
        std::vector<Value> data(std::size_t(spec.width) * std::size_t(spec.height) * std::size_t(channels));
        if (!input.read_image(0, 0, 0, channels, type, data.data())) return false;
        const int width = spec.full_width > 0 ? spec.full_width : spec.width;
        const int height = spec.full_height > 0 ? spec.full_height : spec.height;
        if (channels == 3 && spec.width == width && spec.height == height && spec.x == spec.full_x &&
            spec.y == spec.full_y) {
            out = std::move(data);
            return true;
        }
        out.assign(count, Value(0));
        for (int y = 0; y < spec.height; ++y) {
            const int toY = spec.y - spec.full_y + y;
            if (toY < 0 || toY >= height) continue;
            for (int x = 0; x < spec.width; ++x) {
                const int toX = spec.x - spec.full_x + x;
                if (toX < 0 || toX >= width) continue;
                for (int c = 0; c < 3; ++c)
                    out[(std::size_t(toY) * std::size_t(width) + std::size_t(toX)) * 3 + std::size_t(c)] =
                        data[(std::size_t(y) * std::size_t(spec.width) + std::size_t(x)) * std::size_t(channels) +
                             std::size_t(std::min(c, channels - 1))];
            }
        }
        return true;
    }

    std::map<int, fs::path> files_;
};

constexpr int kLastNumber = 100'000'000;

}  // namespace

Expected<std::shared_ptr<const Plate>> openSequence(const SequenceName& name, const PlateOptions& options) {
    const fs::path folder = name.folder.empty() ? fs::path(".") : name.folder;
    const std::string pattern = (name.folder / (name.before + "####" + name.after)).string();
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
    if (files.empty()) return failure(Fault::input, "{}: no frame of this sequence was found", pattern);

    PlateFacts facts;
    facts.path = pattern;
    facts.kind = PlateKind::sequence;
    facts.firstFrame = files.begin()->first;
    facts.lastFrame = files.rbegin()->first;
    // A number that is no frame's, a date for one, would make a sequence of gaps.
    if (facts.frameCount() > 1'000'000 || std::size_t(facts.frameCount()) > 1000 + 1000 * files.size())
        return failure(Fault::input, "{}: frames {} and {} are too far apart for one sequence", pattern,
                       facts.firstFrame, facts.lastFrame);
    for (int frame = facts.firstFrame; frame <= facts.lastFrame; ++frame)
        if (!files.contains(frame)) facts.missing.push_back(frame);

    // The first frame that opens says what the others are; a broken one is reported when it is read.
    std::string broken;
    for (const auto& [frame, path] : files) {
        const auto input = OIIO::ImageInput::open(path.string());
        if (!input) {
            if (broken.empty()) broken = fmt::format("{}: cannot be read: {}", path.string(), OIIO::geterror());
            continue;
        }
        const OIIO::ImageSpec& spec = input->spec();
        facts.width = spec.full_width > 0 ? spec.full_width : spec.width;
        facts.height = spec.full_height > 0 ? spec.full_height : spec.height;
        facts.pixelAspect = spec.get_float_attribute("PixelAspectRatio", 1.0F);
        facts.pixelFormat = fmt::format("{} {}",
                                        spec.nchannels == 1   ? "grey"
                                        : spec.nchannels == 4 ? "rgba"
                                                              : "rgb",
                                        spec.format.c_str());
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
        if (options.fps) {
            facts.fps = *options.fps;
            facts.fpsFromPlate = true;
        }
        return std::make_shared<SequencePlate>(std::move(facts), std::move(files));
    }
    return failure(Fault::input, "{}", broken);
}

}  // namespace pinion
