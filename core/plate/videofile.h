#pragma once

// A video's frames in the order shown, and decoders that fetch any of them; included by video.cpp alone.

#include "base/expected.h"
#include "base/progress.h"

extern "C" {
#include <libavcodec/avcodec.h>
#include <libavformat/avformat.h>
}
#include <atomic>
#include <cstdint>
#include <filesystem>
#include <map>
#include <memory>
#include <set>
#include <vector>

namespace pinion {

/// What libav says of an error.
std::string avText(int code);

/// A frame of the index.
struct ShownFrame {
    std::int64_t stamp = 0;     ///< when it is shown, in the stream's ticks; where the file does not say, its rank
    std::size_t packet = 0;     ///< the packet that brings it
    std::size_t keyPacket = 0;  ///< from where decoding has to begin
};

struct VideoPacket {
    std::int64_t position = -1;  ///< bytes into the file, -1 not known
    std::int64_t stamp = AV_NOPTS_VALUE, decodeStamp = AV_NOPTS_VALUE;
    bool key = false, hidden = false, broken = false;
};

/// What a pass over the file without decoding finds out.
struct VideoIndex {
    std::filesystem::path path;
    AVRational ticks{1, 1};
    bool stampsAreRanks = false;       ///< the file stamps no frames: packets are numbered instead
    std::vector<VideoPacket> packets;  ///< in the order decoded
    std::vector<ShownFrame> shown;     ///< in the order shown, never empty
    bool complained = false;           ///< the file's structure is damaged: packets may be lost anywhere
    double promised_s = 0;             ///< the length that the file's head speaks of, 0 where it does not say
    std::int64_t promised = 0;         ///< packets that the file's head speaks of, 0 where it does not say

    /// The frame with that stamp, or -1.
    int indexOf(std::int64_t stamp) const;
};

struct DecoderFree {
    void operator()(AVFrame* frame) const { av_frame_free(&frame); }
    void operator()(AVPacket* packet) const { av_packet_free(&packet); }
    void operator()(AVCodecContext* context) const { avcodec_free_context(&context); }
    void operator()(AVFormatContext* context) const { avformat_close_input(&context); }
};
using FramePtr = std::shared_ptr<AVFrame>;

/// A frame as it is coded, or without a picture when it could not be decoded.
struct DecodedFrame {
    FramePtr picture;
    /// Its own data, or those of a frame that it was predicted from, are damaged: the picture is in part made up.
    bool damaged = false;
};

/// An open video with its own place in the file. Used by one thread at a time.
class VideoDecoder {
public:
    /// Fails with what is wrong with the file.
    static Expected<std::unique_ptr<VideoDecoder>> open(const std::filesystem::path& path);

    /// Makes the index and keeps it. Fails for a file without frames and when stopped.
    Expected<std::shared_ptr<const VideoIndex>> makeIndex(const Progress& progress);
    void setIndex(std::shared_ptr<const VideoIndex> index) { index_ = std::move(index); }

    /// The frame, 0 the first shown. Going on forwards costs one frame; going back, the run of frames before this one
    /// is kept, so that going back farther costs little.
    DecodedFrame frame(int number);

    AVStream* stream() const { return format_->streams[streamNumber_]; }
    int next() const { return next_; }
    /// The kept run, inclusive; first > last when there is none.
    std::pair<int, int> run() const;

private:
    VideoDecoder() = default;
    /// Careful: with one thread, after which each frame's flags tell whether it is damaged; with several they may not.
    Expected<void> openDecoder(bool careful);
    Expected<void> collectPackets(VideoIndex& index, const Progress& progress);
    void learnOrder(VideoIndex& index);
    bool rewindTo(std::size_t packet);
    /// The next frame in the order shown, or none at the end.
    bool decodeNext(DecodedFrame& frame, int& number);
    DecodedFrame decodeUpTo(int number, int keepFrom);
    DecodedFrame fetch(int number);

    std::filesystem::path path_;
    std::unique_ptr<AVFormatContext, DecoderFree> format_;
    std::unique_ptr<AVCodecContext, DecoderFree> decoder_;
    std::unique_ptr<AVPacket, DecoderFree> packet_;
    std::shared_ptr<const VideoIndex> index_;
    int streamNumber_ = -1;
    std::size_t nextPacket_ = 0;  ///< the packet that the demuxer brings next
    bool draining_ = false;
    int next_ = -1;  ///< the frame that decoding on would bring, -1 not known
    bool tainted_ = false;
    std::atomic<int> fileTroubles_ = 0;
    std::atomic<int> troubles_ = 0;    ///< errors that the decoder's threads spoke of
    std::set<std::size_t> troubled_;   ///< packets at which they did; when careful
    std::size_t carefulFrom_ = kFast;  ///< the key packet from which decoding is careful
    static constexpr std::size_t kFast = std::size_t(-1);
    std::map<int, DecodedFrame> kept_;
};

}  // namespace pinion
