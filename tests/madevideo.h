#pragma once

// Small videos of every make, for tests: each frame carries its number as bars that survive compression.

extern "C" {
#include <libavcodec/avcodec.h>
#include <libavformat/avformat.h>
#include <libavutil/display.h>
#include <libavutil/opt.h>
}
#include <catch2/catch.hpp>
#include <cstdint>
#include <filesystem>
#include <functional>
#include <map>
#include <string>

namespace pinion::test {

struct MadeVideo {
    std::string codec = "libx264";
    int frames = 60;
    int width = 160, height = 96;
    AVPixelFormat format = AV_PIX_FMT_YUV420P;
    int keyEvery = 30;
    int both = 2;  ///< frames predicted from both sides between two others
    AVRational rate{24, 1};
    std::map<std::string, std::string> options{};
    std::function<std::int64_t(int)> stampOf{};  ///< in ticks of 1/rate
    int turned = 0;                              ///< degrees clockwise, in the display matrix
    AVRational aspect{0, 1};
    bool interlaced = false;
};

constexpr int kBars = 10;

/// Bars of dark and light across the upper half: the number in binary. Below, a texture that moves.
inline std::uint8_t lumaOf(int number, int x, int y, int width, int height) {
    if (y < height / 2) return (number >> (x * kBars / width)) & 1 ? 200 : 50;
    return std::uint8_t(90 + 60 * ((((x + 3 * number) / 8) ^ (y / 8)) & 1) + (x * 7 + y * 13 + number) % 11);
}

template <class Bright>
int numberIn(int width, int height, const Bright& bright) {
    int number = 0;
    for (int bar = 0; bar < kBars; ++bar)
        if (bright(int((bar + 0.5) * width / kBars), height / 4)) number |= 1 << bar;
    return number;
}

inline void makeVideo(const std::filesystem::path& path, const MadeVideo& made) {
    av_log_set_level(AV_LOG_ERROR);
    const AVCodec* codec = avcodec_find_encoder_by_name(made.codec.c_str());
    INFO("encoder " << made.codec);
    REQUIRE(codec);
    AVFormatContext* format = nullptr;
    REQUIRE(avformat_alloc_output_context2(&format, nullptr, nullptr, path.c_str()) >= 0);
    AVCodecContext* encoder = avcodec_alloc_context3(codec);
    encoder->width = made.width;
    encoder->height = made.height;
    encoder->pix_fmt = made.format;
    encoder->time_base = av_inv_q(made.rate);
    encoder->framerate = made.rate;
    encoder->gop_size = made.keyEvery;
    encoder->max_b_frames = made.both;
    encoder->bit_rate = 2'000'000;
    encoder->thread_count = 1;
    encoder->sample_aspect_ratio = made.aspect;
    if (made.interlaced) encoder->flags |= AV_CODEC_FLAG_INTERLACED_DCT | AV_CODEC_FLAG_INTERLACED_ME;
    if (format->oformat->flags & AVFMT_GLOBALHEADER) encoder->flags |= AV_CODEC_FLAG_GLOBAL_HEADER;
    for (const auto& [name, value] : made.options)
        REQUIRE(av_opt_set(encoder, name.c_str(), value.c_str(), AV_OPT_SEARCH_CHILDREN) >= 0);
    REQUIRE(avcodec_open2(encoder, codec, nullptr) >= 0);
    AVStream* stream = avformat_new_stream(format, nullptr);
    stream->time_base = encoder->time_base;
    stream->avg_frame_rate = made.rate;
    stream->sample_aspect_ratio = made.aspect;
    avcodec_parameters_from_context(stream->codecpar, encoder);
    if (made.turned != 0) {
        auto* matrix = reinterpret_cast<std::int32_t*>(
            av_stream_new_side_data(stream, AV_PKT_DATA_DISPLAYMATRIX, 9 * sizeof(std::int32_t)));
        av_display_rotation_set(matrix, made.turned);
    }
    REQUIRE(avio_open(&format->pb, path.c_str(), AVIO_FLAG_WRITE) >= 0);
    REQUIRE(avformat_write_header(format, nullptr) >= 0);
    AVFrame* frame = av_frame_alloc();
    AVPacket* packet = av_packet_alloc();
    const auto drain = [&] {
        while (avcodec_receive_packet(encoder, packet) >= 0) {
            av_packet_rescale_ts(packet, encoder->time_base, stream->time_base);
            packet->stream_index = 0;
            REQUIRE(av_interleaved_write_frame(format, packet) >= 0);
        }
    };
    for (int i = 0; i < made.frames; ++i) {
        av_frame_unref(frame);
        frame->format = made.format;
        frame->width = made.width;
        frame->height = made.height;
        REQUIRE(av_frame_get_buffer(frame, 0) >= 0);
        const bool deep = made.format == AV_PIX_FMT_YUV420P10LE || made.format == AV_PIX_FMT_YUV422P10LE;
        for (int plane = 0; plane < 3; ++plane) {
            const int across = plane > 0 ? made.width / 2 : made.width;
            const int down = plane > 0 && made.format != AV_PIX_FMT_YUV422P10LE ? made.height / 2 : made.height;
            for (int y = 0; y < down; ++y)
                for (int x = 0; x < across; ++x) {
                    const int value = plane > 0 ? 118 + 20 * plane : lumaOf(i, x, y, made.width, made.height);
                    std::uint8_t* row = frame->data[plane] + y * frame->linesize[plane];
                    if (deep) reinterpret_cast<std::uint16_t*>(row)[x] = std::uint16_t(value * 4);
                    else row[x] = std::uint8_t(value);
                }
        }
        frame->pts = made.stampOf ? made.stampOf(i) : i;
        frame->interlaced_frame = made.interlaced;
        frame->top_field_first = made.interlaced;
        frame->sample_aspect_ratio = made.aspect;
        REQUIRE(avcodec_send_frame(encoder, frame) >= 0);
        drain();
    }
    REQUIRE(avcodec_send_frame(encoder, nullptr) >= 0);
    drain();
    REQUIRE(av_write_trailer(format) >= 0);
    avio_closep(&format->pb);
    av_frame_free(&frame);
    av_packet_free(&packet);
    avcodec_free_context(&encoder);
    avformat_free_context(format);
}

/// Three frames of 64 x 48 whose left half is clear and whose right half is solid.
inline void makeAlphaVideo(const std::filesystem::path& path, const char* name, AVPixelFormat pixels) {
    const AVCodec* codec = avcodec_find_encoder_by_name(name);
    INFO("encoder " << name);
    REQUIRE(codec);
    AVFormatContext* format = nullptr;
    REQUIRE(avformat_alloc_output_context2(&format, nullptr, nullptr, path.c_str()) >= 0);
    AVCodecContext* encoder = avcodec_alloc_context3(codec);
    encoder->width = 64;
    encoder->height = 48;
    encoder->pix_fmt = pixels;
    encoder->time_base = {1, 24};
    encoder->framerate = {24, 1};
    if (format->oformat->flags & AVFMT_GLOBALHEADER) encoder->flags |= AV_CODEC_FLAG_GLOBAL_HEADER;
    if (std::string(name) == "prores_ks") av_opt_set(encoder->priv_data, "profile", "4444", 0);
    REQUIRE(avcodec_open2(encoder, codec, nullptr) >= 0);
    AVStream* stream = avformat_new_stream(format, nullptr);
    avcodec_parameters_from_context(stream->codecpar, encoder);
    stream->time_base = encoder->time_base;
    stream->avg_frame_rate = encoder->framerate;
    if (std::string(name) == "libvpx-vp9") av_dict_set(&stream->metadata, "alpha_mode", "1", 0);
    REQUIRE(avio_open(&format->pb, path.c_str(), AVIO_FLAG_WRITE) >= 0);
    REQUIRE(avformat_write_header(format, nullptr) >= 0);
    AVPacket* packet = av_packet_alloc();
    const auto drain = [&] {
        while (avcodec_receive_packet(encoder, packet) == 0) {
            packet->duration = 1;
            av_packet_rescale_ts(packet, encoder->time_base, stream->time_base);
            packet->stream_index = stream->index;
            REQUIRE(av_interleaved_write_frame(format, packet) >= 0);
        }
    };
    for (int number = 0; number < 3; ++number) {
        AVFrame* frame = av_frame_alloc();
        frame->format = pixels;
        frame->width = 64;
        frame->height = 48;
        REQUIRE(av_frame_get_buffer(frame, 0) >= 0);
        const bool packed = pixels == AV_PIX_FMT_ARGB, deep = pixels == AV_PIX_FMT_YUVA444P10LE;
        for (int y = 0; y < 48; ++y)
            for (int x = 0; x < 64; ++x) {
                const int alpha = x < 32 ? 0 : 255;
                if (packed) {
                    std::uint8_t* at = frame->data[0] + y * frame->linesize[0] + 4 * x;
                    at[0] = std::uint8_t(alpha);
                    at[1] = at[2] = at[3] = 128;
                    continue;
                }
                for (int plane = 0; plane < 4; ++plane) {
                    const int shift = !deep && (plane == 1 || plane == 2) ? 1 : 0;
                    const int value = plane == 3 ? alpha : 128;
                    std::uint8_t* row = frame->data[plane] + (y >> shift) * frame->linesize[plane];
                    if (deep) reinterpret_cast<std::uint16_t*>(row)[x] = std::uint16_t(value == 255 ? 1023 : value * 4);
                    else row[x >> shift] = std::uint8_t(value);
                }
            }
        frame->pts = number;
        REQUIRE(avcodec_send_frame(encoder, frame) >= 0);
        av_frame_free(&frame);
        drain();
    }
    avcodec_send_frame(encoder, nullptr);
    drain();
    av_write_trailer(format);
    avio_closep(&format->pb);
    av_packet_free(&packet);
    avcodec_free_context(&encoder);
    avformat_free_context(format);
}

}  // namespace pinion::test
