#include "plate/videowriter.h"

#include "base/files.h"
#include "plate/videofile.h"

extern "C" {
#include <libavcodec/avcodec.h>
#include <libavformat/avformat.h>
#include <libavutil/opt.h>
#include <libswscale/swscale.h>
}
#include <array>

namespace pinion {
namespace {

namespace fs = std::filesystem;

class AvWriter final : public VideoWriter {
public:
    explicit AvWriter(fs::path path) : path_(std::move(path)) { beside_ = pathBeside(path_); }
    AvWriter(const AvWriter&) = delete;
    AvWriter& operator=(const AvWriter&) = delete;
    ~AvWriter() override {
        sws_freeContext(scaler_);
        av_frame_free(&frame_);
        av_packet_free(&packet_);
        avcodec_free_context(&encoder_);
        if (format_) {
            if (format_->pb) avio_closep(&format_->pb);
            avformat_free_context(format_);
        }
        std::error_code code;
        if (!finished_) fs::remove(beside_, code);
    }

    Expected<void> start(int width, int height, FrameRate fps, const VideoOptions& options) {
        int code = avformat_alloc_output_context2(&format_, nullptr, nullptr, beside_.c_str());
        if (code < 0) return failure(Fault::input, "{}: no video format for this ending", path_.string());
        const AVCodec* codec = avcodec_find_encoder(AV_CODEC_ID_H264);
        if (!codec) return failure(Fault::system, "{}: this machine has no H.264 encoder", path_.string());
        stream_ = avformat_new_stream(format_, nullptr);
        encoder_ = avcodec_alloc_context3(codec);
        encoder_->width = width;
        encoder_->height = height;
        encoder_->pix_fmt = AV_PIX_FMT_YUV420P;
        encoder_->time_base = {int(fps.denominator), int(fps.numerator)};
        encoder_->framerate = {int(fps.numerator), int(fps.denominator)};
        if (options.pixelAspect != 1) encoder_->sample_aspect_ratio = av_d2q(options.pixelAspect, 10000);
        encoder_->gop_size = 12;
        encoder_->color_range = AVCOL_RANGE_MPEG;
        encoder_->colorspace = AVCOL_SPC_BT709;
        encoder_->color_primaries = AVCOL_PRI_BT709;
        encoder_->color_trc = AVCOL_TRC_BT709;
        // The quickest preset needs finer steps for the same picture: a tenth of the time, two and a half times the
        // bytes.
        const int rate = options.small || options.quality == 0 ? options.quality : std::max(1, options.quality - 4);
        av_opt_set(encoder_->priv_data, "crf", std::to_string(rate).c_str(), 0);
        av_opt_set(encoder_->priv_data, "preset", options.small ? "medium" : "ultrafast", 0);
        if (format_->oformat->flags & AVFMT_GLOBALHEADER) encoder_->flags |= AV_CODEC_FLAG_GLOBAL_HEADER;
        code = avcodec_open2(encoder_, codec, nullptr);
        if (code < 0) return failure(Fault::system, "{}: the encoder does not start: {}", path_.string(), avText(code));
        avcodec_parameters_from_context(stream_->codecpar, encoder_);
        stream_->sample_aspect_ratio = encoder_->sample_aspect_ratio;
        stream_->time_base = encoder_->time_base;
        stream_->avg_frame_rate = encoder_->framerate;
        code = avio_open(&format_->pb, beside_.c_str(), AVIO_FLAG_WRITE);
        if (code >= 0) code = avformat_write_header(format_, nullptr);
        if (code < 0) return failure(Fault::system, "{}: cannot be written: {}", path_.string(), avText(code));
        frame_ = av_frame_alloc();
        frame_->format = encoder_->pix_fmt;
        frame_->width = width;
        frame_->height = height;
        av_frame_get_buffer(frame_, 0);
        packet_ = av_packet_alloc();
        scaler_ = sws_getContext(width, height, AV_PIX_FMT_RGB24, width, height, AV_PIX_FMT_YUV420P, SWS_BICUBIC,
                                 nullptr, nullptr, nullptr);
        const int* coefficients = sws_getCoefficients(SWS_CS_ITU709);
        sws_setColorspaceDetails(scaler_, coefficients, 1, coefficients, 0, 0, 1 << 16, 1 << 16);
        return {};
    }

    Expected<void> write(std::span<const std::uint8_t> rgb) override {
        av_frame_make_writable(frame_);
        const std::uint8_t* rows[] = {rgb.data()};
        const int strides[] = {frame_->width * 3};
        sws_scale(scaler_, rows, strides, 0, frame_->height, frame_->data, frame_->linesize);
        frame_->pts = count_++;
        return encode(frame_);
    }

    Expected<void> finish() override {
        if (auto flushed = encode(nullptr); !flushed) return flushed;
        int code = av_write_trailer(format_);
        // What went wrong while a buffer was emptied is kept there and said nowhere.
        if (code >= 0 && format_->pb->error < 0) code = format_->pb->error;
        const int closed = avio_closep(&format_->pb);
        if (code >= 0) code = closed;
        if (code < 0)
            return failure(Fault::system, "{}: cannot be written: {}", path_.string(),
                           writeProblem(path_, avText(code)));
        std::error_code renamed;
        fs::rename(beside_, path_, renamed);
        if (renamed) return failure(Fault::system, "{}: cannot be written: {}", path_.string(), renamed.message());
        finished_ = true;
        return {};
    }

private:
    Expected<void> encode(const AVFrame* frame) {
        int code = avcodec_send_frame(encoder_, frame);
        while (code >= 0) {
            code = avcodec_receive_packet(encoder_, packet_);
            if (code == AVERROR(EAGAIN) || code == AVERROR_EOF) return {};
            if (code < 0) break;
            // One frame long in the encoder's time base; without it the last frame has no duration and the rate reads
            // wrong.
            packet_->duration = 1;
            av_packet_rescale_ts(packet_, encoder_->time_base, stream_->time_base);
            packet_->stream_index = stream_->index;
            code = av_interleaved_write_frame(format_, packet_);
        }
        return failure(Fault::system, "{}: cannot be written: {}", path_.string(), writeProblem(path_, avText(code)));
    }

    fs::path path_;
    fs::path beside_;
    AVFormatContext* format_ = nullptr;
    AVCodecContext* encoder_ = nullptr;
    AVStream* stream_ = nullptr;
    AVFrame* frame_ = nullptr;
    AVPacket* packet_ = nullptr;
    SwsContext* scaler_ = nullptr;
    std::int64_t count_ = 0;
    bool finished_ = false;
};

}  // namespace

Expected<std::unique_ptr<VideoWriter>> VideoWriter::create(const fs::path& path, int width, int height, FrameRate fps,
                                                           const VideoOptions& options) {
    auto writer = std::make_unique<AvWriter>(path);
    if (auto started = writer->start(width, height, fps, options); !started) return tl::unexpected(started.error());
    return writer;
}

}  // namespace pinion
