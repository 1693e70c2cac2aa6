#include "plate/framewriter.h"

#include "base/files.h"
#include "base/json.h"
#include "plate/videowriter.h"

#include <OpenImageIO/filesystem.h>
#include <OpenImageIO/imageio.h>
#include <algorithm>
#include <cmath>
#include <set>
#include <unistd.h>

namespace pinion {
namespace {

namespace fs = std::filesystem;

/// The picture's values as they belong into a file: linear for EXR, display-ready for the others.
std::vector<float> valuesFor(const Picture& picture, bool linear) {
    const std::size_t count = std::size_t(picture.width) * std::size_t(picture.height) * 3;
    std::vector<float> values(count);
    if (picture.depth == Picture::Depth::bits8) {
        float table[256];
        for (int i = 0; i < 256; ++i) table[i] = linear ? decodeSrgb(float(i) / 255) : float(i) / 255;
        for (std::size_t i = 0; i < count; ++i) values[i] = table[picture.bytes[i]];
        return values;
    }
    for (std::size_t i = 0; i < count; ++i) {
        const float value = picture.floats[i];
        values[i] = picture.linear == linear ? value
                    : linear                 ? decodeSrgb(std::max(0.0F, value))
                                             : encodeSrgb(std::max(0.0F, value));
    }
    return values;
}

tl::unexpected<Error> noChannels() {
    return failure(Fault::input, "only EXR holds channels of other names: write a sequence of .exr");
}

constexpr double kResolution = 10000;  // across, of pixels that are not square

/// The name of a sequence's files, taken apart at the frame number.
struct Numbered {
    std::string before, after;
    std::size_t digits = 0;

    std::string name(int frame) const { return fmt::format("{}{:0{}d}{}", before, frame, digits, after); }
};

class SequenceWriter final : public FrameWriter {
public:
    SequenceWriter(fs::path folder, std::string before, std::size_t digits, std::string after, FrameRate fps,
                   const FrameWriterOptions& options)
        : folder_(std::move(folder)),
          before_(std::move(before)),
          digits_(digits),
          after_(std::move(after)),
          isExr_(loweredEnding("x" + after_) == ".exr"),
          isPng_(loweredEnding("x" + after_) == ".png"),
          fps_(fps),
          half_(options.half),
          window_(options.window),
          pixelAspect_(options.pixelAspect) {}

    Expected<void> write(int frame, const Picture& picture) override {
        const bool exr = isExr_;
        const bool bytes = !exr && picture.depth == Picture::Depth::bits8;
        Pixels pixels{picture.width, picture.height, 3, typeFor(picture), {}, {}};
        if (bytes) pixels.bytes = picture.bytes.data();
        else pixels.values = valuesFor(picture, exr);
        return put(frame, pixels);
    }
    Expected<void> write(int frame, const Picture& picture, const ImageChannel& alpha, AlphaKind given,
                         AlphaKind stored) override {
        // PNG's colours are straight (W3C, Portable Network Graphics, 4.3.2).
        const bool multiplies = stored == AlphaKind::premultiplied && !isPng_;
        // From tones to tones go the colours themselves.
        const bool divides = given == AlphaKind::premultiplied && (picture.linear != isExr_ || !multiplies);
        std::vector<float> colours;
        if (divides) {
            Picture straight{picture.width, picture.height, Picture::Depth::float32, picture.linear, {}, {}};
            straight.floats.resize(alpha.values.size() * 3);
            for (std::size_t i = 0; i < straight.floats.size(); ++i) {
                const float share = alpha.values[i / 3], value = valueAt(picture, i);
                straight.floats[i] = share > 0 ? value / share : value;
            }
            colours = valuesFor(straight, isExr_);
        } else {
            colours = valuesFor(picture, isExr_);
        }
        Pixels pixels{picture.width, picture.height, 4, typeFor(picture), {}, {}};
        pixels.straight = !multiplies;
        pixels.values.resize(alpha.values.size() * 4);
        for (std::size_t i = 0; i < alpha.values.size(); ++i) {
            const float share = alpha.values[i];
            const bool isMultiplied = given == AlphaKind::premultiplied && (!divides || !(share > 0));
            const float factor = multiplies && !isMultiplied ? share : 1;
            for (std::size_t c = 0; c < 3; ++c) pixels.values[4 * i + c] = colours[3 * i + c] * factor;
            pixels.values[4 * i + 3] = share;
        }
        return put(frame, pixels);
    }
    Expected<void> write(int frame, const ImageChannel& plane) override {
        const auto type = isExr_ ? OIIO::TypeDesc::HALF : OIIO::TypeDesc::UINT16;
        return put(frame, {plane.width, plane.height, 1, type, plane.values, {}});
    }
    Expected<void> write(int frame, const NamedChannels& channels) override {
        if (!isExr_) return noChannels();
        Pixels pixels{channels.width,        channels.height, int(channels.names.size()),
                      OIIO::TypeDesc::FLOAT, channels.values, {}};
        pixels.names = channels.names;
        return put(frame, pixels);
    }
    Expected<void> finish() override { return {}; }

private:
    struct Pixels {
        int width, height, channels;
        OIIO::TypeDesc type;
        std::vector<float> values;
        const std::uint8_t* bytes = nullptr;  ///< in place of the values
        bool straight = true;
        std::vector<std::string> names = {};  ///< of its channels, where they are no colours
    };

    OIIO::TypeDesc typeFor(const Picture& picture) const {
        const bool bytes = picture.depth == Picture::Depth::bits8;
        if (isExr_) return half_ || bytes ? OIIO::TypeDesc::HALF : OIIO::TypeDesc::FLOAT;
        return bytes ? OIIO::TypeDesc::UINT8 : OIIO::TypeDesc::UINT16;
    }

    Expected<void> put(int frame, const Pixels& pixels) const {
        const fs::path path = folder_ / Numbered{before_, after_, digits_}.name(frame);
        // The library's PNG writer does not notice a full disk: into memory then, and on to the disk by our own hand.
        if (loweredEnding(path) == ".png") {
            std::vector<unsigned char> file;
            OIIO::Filesystem::IOVecOutput memory(file);
            if (auto coded = encode(path, pixels, &memory, path); !coded) return coded;
            return writeFile(path, {reinterpret_cast<const char*>(file.data()), file.size()});
        }
        return writeBeside(path, [&](const fs::path& beside) { return encode(beside, pixels, nullptr, path); });
    }

    Expected<void> encode(const fs::path& to, const Pixels& pixels, OIIO::Filesystem::IOProxy* memory,
                          const fs::path& path) const {
        const bool exr = loweredEnding(path) == ".exr";
        const auto output = OIIO::ImageOutput::create(loweredEnding(to).substr(1));
        const auto problem = [&] {
            return failure(Fault::system, "{}: cannot be written: {}", path.string(),
                           writeProblem(path, output ? output->geterror() : OIIO::geterror()));
        };
        OIIO::ImageSpec spec(pixels.width, pixels.height, pixels.channels, pixels.type);
        if (exr && window_) {
            spec.x = window_->x0;
            spec.y = window_->y0;
            spec.full_width = window_->width;
            spec.full_height = window_->height;
        }
        if (!pixels.names.empty()) spec.channelnames = pixels.names;
        else if (pixels.channels == 4) {
            spec.alpha_channel = 3;
            // What is written is what was given: the library is not to multiply or divide on its own.
            if (pixels.straight) spec.attribute("oiio:UnassociatedAlpha", 1);
        }
        spec.attribute("oiio:ColorSpace", exr || pixels.channels == 1 ? "Linear" : "sRGB");
        const int rational[2] = {int(fps_.numerator), int(fps_.denominator)};
        spec.attribute("FramesPerSecond", OIIO::TypeRational, rational);
        if (pixelAspect_ != 1) {
            spec.attribute("PixelAspectRatio", float(pixelAspect_));
            // TIFF and PNG have it as two resolutions, and PNG's are whole numbers.
            spec.attribute("XResolution", float(kResolution));
            spec.attribute("YResolution", float(kResolution * pixelAspect_));
            spec.attribute("ResolutionUnit", "none");
        }
        spec.attribute("compression", exr ? "zip:2" : "lzw");
        spec.attribute("png:compressionLevel", 1);
        if (output && memory && !output->set_ioproxy(memory)) return problem();
        if (!output || !output->open(to.string(), spec)) return problem();
        const bool written = pixels.bytes ? output->write_image(OIIO::TypeDesc::UINT8, pixels.bytes)
                                          : output->write_image(OIIO::TypeDesc::FLOAT, pixels.values.data());
        if (!written || !output->close()) return problem();
        return {};
    }

    fs::path folder_;
    std::string before_;
    std::size_t digits_;
    std::string after_;
    bool isExr_, isPng_;
    FrameRate fps_;
    bool half_;
    std::optional<FrameWindow> window_;
    double pixelAspect_;
};

class VideoFrames final : public FrameWriter {
public:
    explicit VideoFrames(std::unique_ptr<VideoWriter> video) : video_(std::move(video)) {}

    Expected<void> write(int, const Picture& picture) override {
        if (picture.depth == Picture::Depth::bits8) return video_->write(picture.bytes);
        const std::vector<float> values = valuesFor(picture, false);
        std::vector<std::uint8_t> bytes(values.size());
        for (std::size_t i = 0; i < values.size(); ++i)
            bytes[i] = std::uint8_t(std::clamp(values[i] * 255.0F + 0.5F, 0.0F, 255.0F));
        return video_->write(bytes);
    }
    Expected<void> write(int, const Picture&, const ImageChannel&, AlphaKind, AlphaKind) override { return noAlpha(); }
    Expected<void> write(int, const ImageChannel&) override { return noAlpha(); }
    Expected<void> write(int, const NamedChannels&) override { return noChannels(); }
    Expected<void> finish() override { return video_->finish(); }

private:
    static Expected<void> noAlpha() {
        return failure(Fault::input, "a video has no place for a matte; write a sequence, as in matte.####.exr");
    }

    std::unique_ptr<VideoWriter> video_;
};

Expected<void> writeOverscan(const fs::path& path, const FrameWindow& window, int width, int height) {
    const jsonfile::json document{{"format", "pinion.overscan"},
                                  {"version", 1},
                                  {"width", window.width},
                                  {"height", window.height},
                                  {"data_window", {window.x0, window.y0, window.x0 + width, window.y0 + height}}};
    return writeFile(path, jsonfile::dumped(document, 1) + "\n");
}

Expected<Numbered> numbered(const fs::path& pattern) {
    const std::string name = pattern.filename().string();
    Numbered parts;
    auto& [before, after, digits] = parts;
    if (const auto hash = name.find('#'); hash != std::string::npos) {
        const auto end = name.find_first_not_of('#', hash);
        before = name.substr(0, hash);
        digits = (end == std::string::npos ? name.size() : end) - hash;
        after = end == std::string::npos ? "" : name.substr(end);
    } else if (const auto percent = name.find('%'); percent != std::string::npos) {
        const auto d = name.find('d', percent);
        const std::string width0 = d == std::string::npos ? "x" : name.substr(percent + 1, d - percent - 1);
        if (width0.find_first_not_of("0123456789") != std::string::npos || width0.size() > 3)
            return failure(Fault::input, "{}: write the frame number as #### or %04d", pattern.string());
        before = name.substr(0, percent);
        digits = width0.empty() ? 1 : std::size_t(std::stoi(width0));
        after = name.substr(d + 1);
    } else {
        return failure(Fault::input, "{}: one file cannot hold many frames; write the frame number as in {}.####{}",
                       pattern.string(), pattern.stem().string(), pattern.extension().string());
    }
    return parts;
}

}  // namespace

bool isSequencePattern(const fs::path& path) {
    return path.filename().string().find_first_of("#%") != std::string::npos;
}

std::string nameWithoutNumber(const fs::path& path) {
    std::string name = path.stem().string();
    name = name.substr(0, name.find_first_of("#%"));
    while (!name.empty() && (name.back() == '.' || name.back() == '_' || name.back() == '-')) name.pop_back();
    return name;
}

std::filesystem::path frameFile(const fs::path& pattern, int frame) {
    const auto name = numbered(pattern);
    return name ? pattern.parent_path() / name->name(frame) : pattern;
}

Expected<std::unique_ptr<FrameWriter>> FrameWriter::create(const fs::path& pattern, int width, int height,
                                                           FrameRate fps, const FrameWriterOptions& options) {
    static const std::set<std::string> kVideos{".mp4", ".mov", ".mkv"};
    static const std::set<std::string> kPictures{".exr", ".png", ".tif", ".tiff"};
    const std::string ending = loweredEnding(pattern);
    const fs::path folder = pattern.parent_path().empty() ? fs::path(".") : pattern.parent_path();
    if (kVideos.contains(ending)) {
        if (isSequencePattern(pattern))
            return failure(
                Fault::input,
                "{}: a video is one file, and '#' and '%' stand for frame numbers; take them out of its name",
                pattern.string());
        std::error_code code;
        if (fs::exists(pattern, code) && ::access(pattern.c_str(), W_OK) != 0)
            return failure(Fault::system, "{}: there is no permission to write over it; choose another name",
                           pattern.string());
        if (width % 2 != 0 || height % 2 != 0)
            return failure(Fault::input,
                           "{}: this video format needs an even width and height, the plate is {}x{}; write a sequence",
                           pattern.string(), width, height);
        if (auto made = makeFolder(folder); !made) return tl::unexpected(made.error());
        auto video = VideoWriter::create(pattern, width, height, fps,
                                         {.quality = options.quality, .pixelAspect = options.pixelAspect});
        if (!video) return tl::unexpected(video.error());
        return std::make_unique<VideoFrames>(std::move(*video));
    }
    if (!kPictures.contains(ending))
        return failure(Fault::input,
                       "{}: its ending is none of .exr, .png, .tif (a sequence) or .mp4, .mov, .mkv (a video)",
                       pattern.string());
    auto name = numbered(pattern);
    if (!name) return tl::unexpected(name.error());
    auto& [before, after, digits] = *name;
    if (auto made = makeFolder(folder); !made) return tl::unexpected(made.error());
    if (options.window && ending != ".exr") {
        if (auto noted = writeOverscan(folder / (before + "overscan.json"), *options.window, width, height); !noted)
            return tl::unexpected(noted.error());
        before += fmt::format("o{}x{}.", -options.window->x0, -options.window->y0);
    }
    return std::make_unique<SequenceWriter>(folder, before, digits, after, fps, options);
}

Expected<std::unique_ptr<FrameWriter>> FrameWriter::createFor(const PlateFacts& plate, const fs::path& pattern,
                                                              FrameWriterOptions options, int width, int height) {
    options.pixelAspect = plate.pixelAspect;
    return create(pattern, width > 0 ? width : plate.width, height > 0 ? height : plate.height, plate.fps, options);
}

}  // namespace pinion
