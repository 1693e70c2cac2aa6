#include "plate/sources.h"

extern "C" {
#include <libavutil/pixdesc.h>
}
#include <ffms.h>
#include <algorithm>
#include <array>
#include <cstring>
#include <mutex>

namespace pinion {
namespace {

struct FfmsError {
    std::array<char, 1024> buffer{};
    FFMS_ErrorInfo info{};
    FfmsError() {
        info.Buffer = buffer.data();
        info.BufferSize = int(buffer.size());
    }
    std::string text() const { return buffer.data(); }
};

int FFMS_CC onIndexing(int64_t current, int64_t total, void* data) {
    const auto& progress = *static_cast<const Progress*>(data);
    progress.report(total > 0 ? double(current) / double(total) : 0.0, "Indexing");
    return progress.stopped() ? 1 : 0;
}

class VideoPlate final : public Plate {
public:
    VideoPlate(FFMS_VideoSource* source, PlateFacts facts, bool deep) : source_(source), deep_(deep) {
        facts_ = std::move(facts);
    }
    ~VideoPlate() override { FFMS_DestroyVideoSource(source_); }
    VideoPlate(const VideoPlate&) = delete;
    VideoPlate& operator=(const VideoPlate&) = delete;

    Expected<PicturePtr> read(int frame) const override {
        if (!facts_.holds(frame))
            return failure(Fault::input, "{}: has no frame {} (it holds {}-{})", facts_.path.string(), frame,
                           facts_.firstFrame, facts_.lastFrame);
        const std::lock_guard lock(mutex_);
        FfmsError error;
        const FFMS_Frame* decoded = FFMS_GetFrame(source_, frame - facts_.firstFrame, &error.info);
        if (!decoded)
            return failure(Fault::input, "{}: frame {} cannot be decoded: {}", facts_.path.string(), frame,
                           error.text());
        auto picture = std::make_shared<Picture>();
        picture->width = facts_.width;
        picture->height = facts_.height;
        const std::size_t rowValues = std::size_t(facts_.width) * 3;
        const std::size_t rows = std::size_t(facts_.height);
        if (deep_) {
            picture->depth = Picture::Depth::float32;
            picture->floats.resize(rowValues * rows);
            for (std::size_t y = 0; y < rows; ++y) {
                const std::uint8_t* in = decoded->Data[0] + y * std::size_t(decoded->Linesize[0]);
                for (std::size_t x = 0; x < rowValues; ++x) {
                    std::uint16_t value = 0;
                    std::memcpy(&value, in + x * 2, 2);
                    picture->floats[y * rowValues + x] = float(value) / 65535.0F;
                }
            }
        } else {
            picture->bytes.resize(rowValues * rows);
            for (std::size_t y = 0; y < rows; ++y)
                std::memcpy(picture->bytes.data() + y * rowValues,
                            decoded->Data[0] + y * std::size_t(decoded->Linesize[0]), rowValues);
        }
        return picture;
    }

private:
    mutable std::mutex mutex_;
    FFMS_VideoSource* source_;
    bool deep_;
};

}  // namespace

Expected<std::shared_ptr<const Plate>> openVideo(const std::filesystem::path& path, const PlateOptions& options,
                                                 const Progress& progress) {
    static std::once_flag once;
    std::call_once(once, [] {
        FFMS_Init(0, 0);
        FFMS_SetLogLevel(-8);  // what matters comes back as an error
    });
    FfmsError error;
    FFMS_Indexer* indexer = FFMS_CreateIndexer(path.c_str(), &error.info);
    if (!indexer)
        return failure(Fault::input, "{}: is no video that can be read, or is cut off at its start or end",
                       path.string());
    FFMS_SetProgressCallback(indexer, &onIndexing, const_cast<Progress*>(&progress));
    // A file that breaks off keeps the frames before the break.
    FFMS_Index* index = FFMS_DoIndexing2(indexer, FFMS_IEH_STOP_TRACK, &error.info);
    if (!index) {
        if (progress.stopped()) return failure(Fault::stopped, "stopped while indexing {}", path.string());
        return failure(Fault::input, "{}: the video cannot be indexed: {}", path.string(), error.text());
    }
    const int track = FFMS_GetFirstIndexedTrackOfType(index, FFMS_TYPE_VIDEO, &error.info);
    FFMS_VideoSource* source =
        track < 0 ? nullptr : FFMS_CreateVideoSource(path.c_str(), track, index, -1, FFMS_SEEK_NORMAL, &error.info);
    FFMS_DestroyIndex(index);
    if (!source) return failure(Fault::input, "{}: holds no picture that can be decoded", path.string());

    const FFMS_VideoProperties* properties = FFMS_GetVideoProperties(source);
    const FFMS_Frame* first = FFMS_GetFrame(source, 0, &error.info);
    if (!first || properties->NumFrames < 1) {
        FFMS_DestroyVideoSource(source);
        return failure(Fault::input, "{}: its first frame cannot be decoded: {}", path.string(), error.text());
    }
    PlateFacts facts;
    facts.path = path;
    facts.kind = PlateKind::video;
    facts.width = first->EncodedWidth;
    facts.height = first->EncodedHeight;
    facts.fps = reduced({properties->FPSNumerator, properties->FPSDenominator});
    // Containers store a rounded frame time; a rate within a hair of a standard one is that one.
    if (const FrameRate near = frameRateNear(facts.fps.perSecond()); near.denominator != 1000) facts.fps = near;
    if (options.fps) facts.fps = *options.fps;
    facts.firstFrame = options.firstFrameOfVideo;
    facts.lastFrame = facts.firstFrame + properties->NumFrames - 1;
    if (properties->SARNum > 0 && properties->SARDen > 0)
        facts.pixelAspect = double(properties->SARNum) / properties->SARDen;
    const auto format = AVPixelFormat(first->EncodedPixelFormat);
    const char* formatName = av_get_pix_fmt_name(format);
    facts.pixelFormat = formatName ? formatName : "unknown";
    const AVPixFmtDescriptor* descriptor = av_pix_fmt_desc_get(format);
    const bool deep = descriptor && descriptor->comp[0].depth > 8;

    const int formats[] = {FFMS_GetPixFmt(deep ? "rgb48le" : "rgb24"), -1};
    if (FFMS_SetOutputFormatV2(source, formats, facts.width, facts.height, FFMS_RESIZER_FAST_BILINEAR, &error.info) !=
        0) {
        FFMS_DestroyVideoSource(source);
        return failure(Fault::input, "{}: its pixel format {} cannot be converted", path.string(), facts.pixelFormat);
    }
    return std::make_shared<VideoPlate>(source, std::move(facts), deep);
}

}  // namespace pinion
