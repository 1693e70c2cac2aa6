#include "plate/sources.h"
#include "plate/videofile.h"

extern "C" {
#include <libavutil/display.h>
#include <libavutil/pixdesc.h>
#include <libswscale/swscale.h>
}
#include <algorithm>
#include <array>
#include <cmath>
#include <cstring>
#include <mutex>
#include <numeric>

namespace pinion {
namespace {

constexpr std::size_t kDecoders = 3;  // a job's, the interface's, and one to spare
constexpr int kNear = 3;              // frames that are sooner decoded than sought

/// One decoder and what is known of it without asking it, which may mean to wait.
struct Slot {
    std::mutex busy;
    std::unique_ptr<VideoDecoder> decoder;
    int next = -1;
    std::pair<int, int> run{1, 0};
    std::uint64_t used = 0;
};

/// Frames for whoever asks, from the decoder that is nearest to them.
class DecoderPool {
public:
    DecoderPool(std::unique_ptr<VideoDecoder> first, std::shared_ptr<const VideoIndex> index)
        : index_(std::move(index)) {
        slots_.front().decoder = std::move(first);
    }

    DecodedFrame frame(int number) const {
        Slot& slot = choose(number);
        const std::lock_guard lock(slot.busy);
        if (!slot.decoder) {
            auto opened = VideoDecoder::open(index_->path);
            // The file was moved or removed since: the first decoder holds on to it.
            if (!opened) {
                const std::lock_guard first(slots_.front().busy);
                return slots_.front().decoder->frame(number);
            }
            slot.decoder = std::move(*opened);
            slot.decoder->setIndex(index_);
        }
        DecodedFrame frame = slot.decoder->frame(number);
        const std::lock_guard guard(mutex_);
        slot.next = slot.decoder->next();
        slot.run = slot.decoder->run();
        return frame;
    }

private:
    Slot& choose(int number) const {
        const std::lock_guard guard(mutex_);
        const auto inRun = [&](const Slot& slot) { return slot.run.first <= number && number <= slot.run.second; };
        const auto continues = [&](const Slot& slot) {
            if (slot.next < 0) return false;
            if (number >= slot.next)
                return number - slot.next <= kNear ||
                       (slot.next < int(index_->shown.size()) &&
                        index_->shown[std::size_t(number)].keyPacket <= index_->shown[std::size_t(slot.next)].packet);
            return slot.next - number <= kNear;
        };
        const auto goesBack = [&](const Slot& slot) {
            return slot.run.first <= slot.run.second && slot.run.first - number > 0 && slot.run.first - number <= kNear;
        };
        Slot* chosen = nullptr;
        for (Slot& slot : slots_)
            if (inRun(slot)) chosen = &slot;
        if (!chosen)
            for (Slot& slot : slots_)
                if (continues(slot) && (!chosen || slot.next > chosen->next)) chosen = &slot;
        if (!chosen)
            for (Slot& slot : slots_)
                if (goesBack(slot)) chosen = &slot;
        if (!chosen)  // it has to seek: with the decoder that has waited longest
            chosen = &*std::min_element(slots_.begin(), slots_.end(),
                                        [](const Slot& a, const Slot& b) { return a.used < b.used; });
        if (!inRun(*chosen)) {
            // Where it will be, for whoever asks before it is there.
            chosen->run = {1, 0};
            chosen->next = number + 1;
        }
        chosen->used = ++clock_;
        return *chosen;
    }

    std::shared_ptr<const VideoIndex> index_;
    mutable std::mutex mutex_;
    mutable std::array<Slot, kDecoders> slots_;
    mutable std::uint64_t clock_ = 0;
};

/// What a file that does not say it means by its colours, by trade use: ITU-R BT.601 for the small, BT.709 for others.
AVColorSpace spaceOf(const AVFrame& frame) {
    if (frame.colorspace != AVCOL_SPC_UNSPECIFIED) return frame.colorspace;
    return frame.width > 1024 || frame.height >= 600 ? AVCOL_SPC_BT709 : AVCOL_SPC_SMPTE170M;
}

/// Older formats say the range in their name; what they mean is the usual format with full range.
AVPixelFormat withoutRange(AVPixelFormat format, bool& full) {
    const auto is = [&](AVPixelFormat plain) {
        full = true;
        return plain;
    };
    switch (format) {
        case AV_PIX_FMT_YUVJ420P:
            return is(AV_PIX_FMT_YUV420P);
        case AV_PIX_FMT_YUVJ422P:
            return is(AV_PIX_FMT_YUV422P);
        case AV_PIX_FMT_YUVJ444P:
            return is(AV_PIX_FMT_YUV444P);
        case AV_PIX_FMT_YUVJ440P:
            return is(AV_PIX_FMT_YUV440P);
        default:
            return format;
    }
}

/// Frames to RGB. Several threads convert at once, each with a scaler of its own.
class Converter {
public:
    Converter(int width, int height, bool deep) : width_(width), height_(height), deep_(deep) {}
    Converter(const Converter&) = delete;
    Converter& operator=(const Converter&) = delete;
    ~Converter() {
        for (SwsContext* context : idle_) sws_freeContext(context);
    }

    /// As coded, not yet turned.
    Expected<Picture> picture(const AVFrame& frame) const {
        const auto scaler = scalerFor(frame, deep_ ? AV_PIX_FMT_RGB48LE : AV_PIX_FMT_RGB24);
        if (!scaler) return tl::unexpected(scaler.error());
        SwsContext* context = *scaler;
        Picture picture;
        picture.width = width_;
        picture.height = height_;
        const std::size_t values = std::size_t(width_) * std::size_t(height_) * 3;
        if (deep_) {
            std::vector<std::uint16_t> words(values);
            scale(context, frame, reinterpret_cast<std::uint8_t*>(words.data()), width_ * 6);
            picture.depth = Picture::Depth::float32;
            picture.floats.resize(values);
            std::transform(words.begin(), words.end(), picture.floats.begin(),
                           [](std::uint16_t word) { return float(word) / 65535.0F; });
        } else {
            picture.bytes.resize(values);
            scale(context, frame, picture.bytes.data(), width_ * 3);
        }
        const std::lock_guard lock(mutex_);
        idle_.push_back(context);
        return picture;
    }

    /// The alpha of a format that has one, as coded, not yet turned.
    Expected<ImageChannel> alpha(const AVFrame& frame) const {
        const auto scaler = scalerFor(frame, AV_PIX_FMT_RGBA64LE);
        if (!scaler) return tl::unexpected(scaler.error());
        ImageChannel plane(width_, height_);
        std::vector<std::uint16_t> words(4 * plane.values.size());
        scale(*scaler, frame, reinterpret_cast<std::uint8_t*>(words.data()), width_ * 8);
        for (std::size_t i = 0; i < plane.values.size(); ++i) plane.values[i] = float(words[4 * i + 3]) / 65535.0F;
        const std::lock_guard lock(mutex_);
        idle_.push_back(*scaler);
        return plane;
    }

private:
    Expected<SwsContext*> scalerFor(const AVFrame& frame, AVPixelFormat to) const {
        SwsContext* context = nullptr;
        {
            const std::lock_guard lock(mutex_);
            if (!idle_.empty()) {
                context = idle_.back();
                idle_.pop_back();
            }
        }
        bool full = frame.color_range == AVCOL_RANGE_JPEG;
        const AVPixelFormat from = withoutRange(AVPixelFormat(frame.format), full);
        context = sws_getCachedContext(context, frame.width, frame.height, from, width_, height_, to,
                                       SWS_BILINEAR | SWS_ACCURATE_RND | SWS_FULL_CHR_H_INT | SWS_FULL_CHR_H_INP,
                                       nullptr, nullptr, nullptr);
        if (!context)
            return failure(Fault::input, "its pixel format {} cannot be converted", av_get_pix_fmt_name(from));
        const int* matrix = sws_getCoefficients(spaceOf(frame));
        sws_setColorspaceDetails(context, matrix, full, matrix, 1, 0, 1 << 16, 1 << 16);
        return context;
    }
    static void scale(SwsContext* context, const AVFrame& frame, std::uint8_t* to, int stride) {
        std::uint8_t* planes[4] = {to, nullptr, nullptr, nullptr};
        const int strides[4] = {stride, 0, 0, 0};
        sws_scale(context, frame.data, frame.linesize, 0, frame.height, planes, strides);
    }

    int width_, height_;
    bool deep_;
    mutable std::mutex mutex_;
    mutable std::vector<SwsContext*> idle_;
};

template <int kChannels, class Value>
std::vector<Value> turnedValues(const std::vector<Value>& from, int width, int height, int degrees) {
    std::vector<Value> to(from.size());
    const int newWidth = degrees == 180 ? width : height;
    for (int y = 0; y < height; ++y)
        for (int x = 0; x < width; ++x) {
            const int toX = degrees == 90 ? height - 1 - y : degrees == 180 ? width - 1 - x : y;
            const int toY = degrees == 90 ? x : degrees == 180 ? height - 1 - y : width - 1 - x;
            const std::size_t source = kChannels * (std::size_t(y) * std::size_t(width) + std::size_t(x));
            std::copy_n(from.begin() + std::ptrdiff_t(source), kChannels,
                        to.begin() + kChannels * (std::ptrdiff_t(toY) * newWidth + toX));
        }
    return to;
}

/// Turned clockwise by a multiple of 90 degrees.
void turn(Picture& picture, int degrees) {
    if (degrees == 0) return;
    if (!picture.bytes.empty()) picture.bytes = turnedValues<3>(picture.bytes, picture.width, picture.height, degrees);
    if (!picture.floats.empty())
        picture.floats = turnedValues<3>(picture.floats, picture.width, picture.height, degrees);
    if (degrees != 180) std::swap(picture.width, picture.height);
}

void turn(ImageChannel& plane, int degrees) {
    if (degrees == 0) return;
    plane.values = turnedValues<1>(plane.values, plane.width, plane.height, degrees);
    if (degrees != 180) std::swap(plane.width, plane.height);
}

class VideoPlate final : public Plate {
public:
    VideoPlate(std::unique_ptr<VideoDecoder> decoder, std::shared_ptr<const VideoIndex> index, PlateFacts facts,
               std::vector<int> places, bool deep, bool hasAlpha)
        : index_(index),
          places_(std::move(places)),
          hasAlpha_(hasAlpha),
          pool_(std::move(decoder), index),
          converter_(facts.turned % 180 == 0 ? facts.width : facts.height,
                     facts.turned % 180 == 0 ? facts.height : facts.width, deep) {
        facts_ = std::move(facts);
    }

    Expected<PicturePtr> read(int frame) const override {
        const auto decoded = decodedAt(frame);
        if (!decoded) return tl::unexpected(decoded.error());
        auto picture = converter_.picture(**decoded);
        if (!picture)
            return failure(Fault::input, "{}: frame {}: {}", facts_.path.string(), frame, picture.error().message);
        turn(*picture, facts_.turned);
        return std::make_shared<const Picture>(std::move(*picture));
    }

    Expected<std::optional<ImageChannel>> readAlpha(int frame) const override {
        if (!hasAlpha_) return std::optional<ImageChannel>();
        const auto decoded = decodedAt(frame);
        if (!decoded) return tl::unexpected(decoded.error());
        auto alpha = converter_.alpha(**decoded);
        if (!alpha)
            return failure(Fault::input, "{}: frame {}: {}", facts_.path.string(), frame, alpha.error().message);
        turn(*alpha, facts_.turned);
        return std::optional(*std::move(alpha));
    }

    std::vector<int> damagedFrames(const Progress& progress) const override {
        std::vector<int> damaged;
        for (int frame = facts_.firstFrame; frame <= facts_.lastFrame && !progress.stopped(); ++frame) {
            if (std::binary_search(facts_.missing.begin(), facts_.missing.end(), frame)) continue;
            const DecodedFrame decoded = pool_.frame(placeOf(frame));
            if (!decoded.picture || decoded.damaged) damaged.push_back(frame);
            progress.report(double(frame - facts_.firstFrame + 1) / facts_.frameCount(), "Looking for damaged frames");
        }
        return damaged;
    }

private:
    Expected<FramePtr> decodedAt(int frame) const {
        if (!facts_.holds(frame))
            return failure(Fault::input, "{}: has no frame {} (it holds {}-{})", facts_.path.string(), frame,
                           facts_.firstFrame, facts_.lastFrame);
        if (std::binary_search(facts_.missing.begin(), facts_.missing.end(), frame))
            return failure(Fault::input, "{}: frame {} is missing: the file is damaged or breaks off there",
                           facts_.path.string(), frame);
        if (hasAlpha_) {
            // Colours and alpha of one frame are asked for one after the other.
            const std::lock_guard lock(latestMutex_);
            if (latest_.first == frame && latest_.second) return latest_.second;
        }
        const DecodedFrame decoded = pool_.frame(placeOf(frame));
        if (!decoded.picture)
            return failure(Fault::input, "{}: frame {} is damaged and cannot be decoded", facts_.path.string(), frame);
        if (decoded.damaged)
            return failure(Fault::input, "{}: frame {} is damaged: part of its picture is not there",
                           facts_.path.string(), frame);
        if (hasAlpha_) {
            const std::lock_guard lock(latestMutex_);
            latest_ = {frame, decoded.picture};
        }
        return decoded.picture;
    }
    int placeOf(int frame) const {
        const int place = frame - facts_.firstFrame;
        return places_.empty() ? place : places_[std::size_t(place)];
    }

    std::shared_ptr<const VideoIndex> index_;
    std::vector<int> places_;  ///< of the frames in the index; empty: one after the other
    bool hasAlpha_;
    mutable std::mutex latestMutex_;
    mutable std::pair<int, FramePtr> latest_{0, nullptr};
    DecoderPool pool_;
    Converter converter_;
};

/// Degrees clockwise, as the file's display matrix has it: 0, 90, 180 or 270.
int turnOf(const AVStream& stream) {
    std::size_t size = 0;
    const std::uint8_t* matrix = av_stream_get_side_data(&stream, AV_PKT_DATA_DISPLAYMATRIX, &size);
    if (!matrix || size < 9 * sizeof(std::int32_t)) return 0;
    std::int32_t values[9];
    std::memcpy(values, matrix, sizeof values);
    const double degrees = -av_display_rotation_get(values);  // the library counts against the clock
    if (!std::isfinite(degrees)) return 0;
    const int quarters = int(std::lround(degrees / 90));
    return std::abs(degrees - 90 * quarters) < 1 ? ((quarters % 4 + 4) % 4) * 90 : 0;
}

/// Where the reader of a damaged file lost packets of an even stream: for each frame its place in the index, -1 for the
/// lost ones. Empty when nothing is known to be lost.
std::vector<int> placesWithGaps(const VideoIndex& index, const AVStream& stream) {
    std::vector<int> places{0};
    if (!index.complained || index.stampsAreRanks || index.shown.size() < 3) return {};
    std::vector<std::int64_t> steps;
    for (std::size_t i = 1; i < index.shown.size(); ++i)
        steps.push_back(index.shown[i].stamp - index.shown[i - 1].stamp);
    std::vector<std::int64_t> sorted = steps;
    std::nth_element(sorted.begin(), sorted.begin() + std::ptrdiff_t(sorted.size() / 2), sorted.end());
    const double middle = double(sorted[sorted.size() / 2]);
    if (middle < 1) return {};
    // The exact length of a frame, where it is said and the rounded stamps agree.
    const double said = stream.avg_frame_rate.num > 0 ? 1 / (av_q2d(stream.avg_frame_rate) * av_q2d(index.ticks)) : 0;
    const double exact = std::abs(said - middle) <= 1 ? said : middle;
    for (std::size_t i = 0; i < steps.size(); ++i) {
        const double count = std::round(double(steps[i]) / exact);
        if (count < 1 || count > 10'000 ||
            std::abs(double(steps[i]) - count * exact) > std::max(1.01, 0.1 * middle) * count)
            return {};
        places.insert(places.end(), std::size_t(count) - 1, -1);
        places.push_back(int(i) + 1);
    }
    // Behind the last one that was found, up to the length that was meant.
    const double meant = index.promised_s / (exact * av_q2d(index.ticks));
    if (meant < 1e7 && meant > double(places.size()) + 0.5) places.resize(std::size_t(std::lround(meant)), -1);
    return places.size() > index.shown.size() ? places : std::vector<int>{};
}

/// Rate, and where frames are not shown equally long, when each of them is.
void timing(const VideoIndex& index, const AVStream& stream, PlateFacts& facts) {
    const auto usual = [&](AVRational rate) {
        return rate.num > 0 && rate.den > 0 && av_q2d(rate) >= 1 && av_q2d(rate) <= 1000;
    };
    const auto take = [&](double perSecond, FrameRate exact) {
        facts.fps = reduced(exact);
        // Containers store a rounded frame time; a rate within a hair of a standard one is that one.
        if (const FrameRate near = frameRateNear(perSecond); near.denominator != 1000) facts.fps = near;
    };
    const std::size_t count = index.shown.size();
    if (count < 2 || index.stampsAreRanks) {
        const AVRational said = usual(stream.avg_frame_rate) ? stream.avg_frame_rate : stream.r_frame_rate;
        // One frame has no rate, and what is said of it is the clock's.
        facts.fpsFromPlate = usual(said) && (count > 1 || av_q2d(said) <= 240);
        if (facts.fpsFromPlate) take(av_q2d(said), {said.num, said.den});
        return;
    }
    std::vector<std::int64_t> steps;
    for (std::size_t i = 1; i < count; ++i) steps.push_back(index.shown[i].stamp - index.shown[i - 1].stamp);
    std::vector<std::int64_t> sorted = steps;
    std::nth_element(sorted.begin(), sorted.begin() + std::ptrdiff_t(sorted.size() / 2), sorted.end());
    const double middle = double(sorted[sorted.size() / 2]);
    const double leeway = std::max(1.01, 0.1 * middle);  // stamps are rounded to the clock's ticks
    facts.unevenFrames = int(std::count_if(
        steps.begin(), steps.end(), [&](std::int64_t step) { return std::abs(double(step) - middle) > leeway; }));
    const std::int64_t whole = index.shown.back().stamp - index.shown.front().stamp;
    const double seconds = double(whole) * av_q2d(index.ticks);
    if (!(seconds > 0)) return;
    // What is said counts when the stamps agree to within their rounding.
    if (usual(stream.avg_frame_rate) &&
        std::abs(double(count - 1) / av_q2d(stream.avg_frame_rate) - seconds) < 1.5 * av_q2d(index.ticks))
        take(av_q2d(stream.avg_frame_rate), {stream.avg_frame_rate.num, stream.avg_frame_rate.den});
    else take(double(count - 1) / seconds, {std::int64_t(count - 1) * index.ticks.den, whole * index.ticks.num});
    if (facts.unevenFrames > 0) {
        std::vector<double> times;
        for (const ShownFrame& frame : index.shown)
            times.push_back(double(frame.stamp - index.shown.front().stamp) * av_q2d(index.ticks));
        facts.times = {facts.firstFrame, std::move(times)};
        facts.remarks.push_back(
            fmt::format("the frame rate varies: {} of {} frames are shown for longer or shorter than the others; "
                        "{:.3f} frames/s is "
                        "the mean",
                        facts.unevenFrames, count, double(count - 1) / seconds));
    }
}

}  // namespace

Expected<std::shared_ptr<const Plate>> openVideo(const std::filesystem::path& path, const PlateOptions& options,
                                                 const Progress& progress) {
    auto decoder = VideoDecoder::open(path);
    if (!decoder) return tl::unexpected(decoder.error());
    auto index = (*decoder)->makeIndex(progress);
    if (!index) return tl::unexpected(index.error());
    // The first frame that can be decoded says what they are like.
    DecodedFrame first;
    for (int i = 0; i < std::min(10, int((*index)->shown.size())) && !first.picture; ++i) first = (*decoder)->frame(i);
    if (!first.picture) return failure(Fault::input, "{}: its first frames cannot be decoded", path.string());
    const AVFrame& frame = *first.picture;
    const AVStream& stream = *(*decoder)->stream();

    PlateFacts facts;
    facts.path = path;
    facts.kind = PlateKind::video;
    facts.width = frame.width;
    facts.height = frame.height;
    AVRational aspect = frame.sample_aspect_ratio;
    if (aspect.num <= 0 || aspect.den <= 0) aspect = stream.sample_aspect_ratio;
    if (aspect.num > 0 && aspect.den > 0) facts.pixelAspect = av_q2d(aspect);
    facts.turned = turnOf(stream);
    if (facts.turned != 0)
        facts.remarks.push_back(
            fmt::format("the video says that it lies on its side: frames are turned by {}°", facts.turned));
    if (facts.turned % 180 != 0) {
        std::swap(facts.width, facts.height);
        facts.pixelAspect = 1 / facts.pixelAspect;
    }
    facts.interlaced = frame.interlaced_frame;
    if (facts.interlaced)
        facts.remarks.push_back(
            "the video is interlaced: the two fields of a frame were taken at different times; deinterlace it first");
    facts.firstFrame = options.firstFrameOfVideo;
    remarkAspect(facts);
    timing(**index, stream, facts);
    if (options.fps) {
        facts.fps = *options.fps;
        facts.fpsFromPlate = true;
    }
    std::vector<int> places = placesWithGaps(**index, stream);
    const int there = places.empty() ? int((*index)->shown.size()) : int(places.size());
    facts.lastFrame = facts.firstFrame + there - 1;
    for (int i = 0; i < int(places.size()); ++i)
        if (places[std::size_t(i)] < 0) facts.missing.push_back(facts.firstFrame + i);
    const std::int64_t lost =
        (*index)->promised - std::int64_t((*index)->packets.size()) - std::int64_t(facts.missing.size());
    if (lost > 0 && lost < 10'000'000)
        for (std::int64_t i = 0; i < lost; ++i) facts.missing.push_back(++facts.lastFrame);
    if (!facts.missing.empty()) {
        // With frames missing the others' times say nothing of the rate.
        facts.times = {};
        facts.unevenFrames = 0;
        facts.remarks.push_back(fmt::format("the file is damaged or breaks off: {} of its {} frames are not there",
                                            facts.missing.size(), facts.frameCount()));
    }
    const auto format = AVPixelFormat(frame.format);
    const char* formatName = av_get_pix_fmt_name(format);
    facts.pixelFormat = formatName ? formatName : "unknown";
    const AVPixFmtDescriptor* descriptor = av_pix_fmt_desc_get(format);
    const bool deep = descriptor && descriptor->comp[0].depth > 8;
    // Of a palette the fourth byte is as often nothing.
    const bool hasAlpha = descriptor && (descriptor->flags & AV_PIX_FMT_FLAG_ALPHA) && format != AV_PIX_FMT_PAL8;
    const AVCodecID codec = stream.codecpar->codec_id;
    if (hasAlpha && (codec == AV_CODEC_ID_VP8 || codec == AV_CODEC_ID_VP9)) facts.alphaKind = AlphaKind::straight;
    return std::make_shared<VideoPlate>(std::move(*decoder), std::move(*index), std::move(facts), std::move(places),
                                        deep, hasAlpha);
}

}  // namespace pinion
