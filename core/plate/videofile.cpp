#include "plate/videofile.h"

extern "C" {
#include <libavutil/imgutils.h>
}
#include <algorithm>
#include <array>
#include <iterator>
#include <mutex>
#include <string_view>
#include <thread>

namespace pinion {
namespace {

/// What a run of kept frames may take. Of 1080p video in 4:2:0 that is 134 frames: more than half of what encoders
/// usually put between two key frames (250), so that such a stretch is decoded one and a half times, not more.
constexpr std::size_t kRunBytes = std::size_t(400) << 20;
constexpr int kBehind = 8;  // frames that a jump back may pass without a run being kept

/// Decoders tell of damage in a message only, and the frame that it fell on may leave without a mark; readers of
/// containers skip what they do not understand. The messages go to nobody else: what matters comes back as an error.
void onMessage(void* context, int level, const char*, va_list) {
    if (!context || level > AV_LOG_ERROR) return;
    void* troubles = nullptr;
    if (const AVClass* kind = *static_cast<const AVClass**>(context); kind == avcodec_get_class())
        troubles = static_cast<AVCodecContext*>(context)->opaque;
    else if (kind == avformat_get_class()) troubles = static_cast<AVFormatContext*>(context)->opaque;
    if (troubles) ++*static_cast<std::atomic<int>*>(troubles);
}

/// Whether its decoder marks damaged frames, when it has one thread.
bool marksDamage(AVCodecID codec) {
    return codec == AV_CODEC_ID_H264 || codec == AV_CODEC_ID_MPEG4 || codec == AV_CODEC_ID_MPEG2VIDEO ||
           codec == AV_CODEC_ID_MPEG1VIDEO;
}

std::size_t bytesOf(const AVFrame& frame) {
    const int bytes = av_image_get_buffer_size(AVPixelFormat(frame.format), frame.width, frame.height, 32);
    return std::size_t(std::max(bytes, 1));
}

}  // namespace

std::string avText(int code) {
    std::array<char, 256> text{};
    av_strerror(code, text.data(), text.size());
    return text.data();
}

int VideoIndex::indexOf(std::int64_t stamp) const {
    const auto found =
        std::lower_bound(shown.begin(), shown.end(), stamp,
                         [](const ShownFrame& frame, std::int64_t value) { return frame.stamp < value; });
    return found != shown.end() && found->stamp == stamp ? int(found - shown.begin()) : -1;
}

Expected<std::unique_ptr<VideoDecoder>> VideoDecoder::open(const std::filesystem::path& path) {
    static std::once_flag once;
    std::call_once(once, [] { av_log_set_callback(&onMessage); });
    std::unique_ptr<VideoDecoder> video(new VideoDecoder);
    video->path_ = path;
    AVFormatContext* format = nullptr;
    if (const int code = avformat_open_input(&format, path.c_str(), nullptr, nullptr); code < 0) {
        if (code == AVERROR(EACCES))
            return failure(Fault::input, "{}: may not be read: {}", path.string(), avText(code));
        return failure(Fault::input, "{}: is no video that can be read, or is cut off at its start or end",
                       path.string());
    }
    video->format_.reset(format);
    format->opaque = &video->fileTroubles_;
    if (avformat_find_stream_info(format, nullptr) < 0)
        return failure(Fault::input, "{}: is no video that can be read", path.string());
    for (unsigned i = 0; i < format->nb_streams; ++i) {
        AVStream* stream = format->streams[i];
        const bool wanted = video->streamNumber_ < 0 && stream->codecpar->codec_type == AVMEDIA_TYPE_VIDEO &&
                            !(stream->disposition & AV_DISPOSITION_ATTACHED_PIC);
        if (wanted) video->streamNumber_ = int(i);
        stream->discard = wanted ? AVDISCARD_DEFAULT : AVDISCARD_ALL;
    }
    if (video->streamNumber_ < 0)
        return failure(Fault::input, "{}: holds sound or data, but no picture", path.string());
    video->packet_.reset(av_packet_alloc());
    if (auto opened = video->openDecoder(false); !opened) return tl::unexpected(opened.error());
    return video;
}

Expected<void> VideoDecoder::openDecoder(bool careful) {
    const AVCodecParameters* parameters = stream()->codecpar;
    const AVCodec* codec = avcodec_find_decoder(parameters->codec_id);
    // The library's own decoders of VP8 and VP9 leave the alpha out that the container holds beside them.
    if (const AVDictionaryEntry* alpha = av_dict_get(stream()->metadata, "alpha_mode", nullptr, 0);
        alpha && std::string_view(alpha->value) == "1")
        if (const AVCodec* whole =
                avcodec_find_decoder_by_name(parameters->codec_id == AV_CODEC_ID_VP9 ? "libvpx-vp9" : "libvpx");
            whole && whole->id == parameters->codec_id)
            codec = whole;
    if (!codec)
        return failure(Fault::input,
                       "{}: is coded as {}, which cannot be decoded here: convert it to a picture sequence",
                       path_.string(), avcodec_get_name(parameters->codec_id));
    decoder_.reset(avcodec_alloc_context3(codec));
    avcodec_parameters_to_context(decoder_.get(), parameters);
    decoder_->pkt_timebase = stream()->time_base;
    decoder_->thread_count = careful ? 1 : int(std::clamp(std::thread::hardware_concurrency(), 1U, 4U));
    decoder_->opaque = &troubles_;
    decoder_->err_recognition = AV_EF_CRCCHECK | AV_EF_BITSTREAM | AV_EF_BUFFER;
    if (const int code = avcodec_open2(decoder_.get(), codec, nullptr); code < 0)
        return failure(Fault::input, "{}: its {} cannot be decoded: {}", path_.string(), codec->name, avText(code));
    return {};
}

Expected<void> VideoDecoder::collectPackets(VideoIndex& index, const Progress& progress) {
    const std::int64_t size = format_->pb ? avio_size(format_->pb) : 0;
    while (true) {
        const int code = av_read_frame(format_.get(), packet_.get());
        if (code < 0) break;  // the end, or where the file breaks off
        if (packet_->stream_index == streamNumber_) {
            VideoPacket packet;
            packet.position = packet_->pos;
            packet.stamp = packet_->pts;
            packet.decodeStamp = packet_->dts;
            packet.key = packet_->flags & AV_PKT_FLAG_KEY;
            packet.broken = packet_->flags & AV_PKT_FLAG_CORRUPT;
            packet.hidden = packet_->flags & AV_PKT_FLAG_DISCARD;
            // RFC 6386, 9.1: the show_frame bit.
            if (stream()->codecpar->codec_id == AV_CODEC_ID_VP8 && packet_->size > 0 && !(packet_->data[0] & 0x10))
                packet.hidden = true;
            index.packets.push_back(packet);
        }
        if (size > 0 && packet_->pos > 0) progress.report(double(packet_->pos) / double(size), "Indexing");
        av_packet_unref(packet_.get());
        if (progress.stopped()) return failure(Fault::stopped, "stopped while indexing {}", path_.string());
    }
    return {};
}

Expected<std::shared_ptr<const VideoIndex>> VideoDecoder::makeIndex(const Progress& progress) {
    auto index = std::make_shared<VideoIndex>();
    index->path = path_;
    index->ticks = stream()->time_base;
    const std::string container = format_->iformat->name;
    if (container.find("mp4") != std::string::npos || container == "avi") index->promised = stream()->nb_frames;
    if (format_->duration > 0) index->promised_s = double(format_->duration) / AV_TIME_BASE;
    if (auto collected = collectPackets(*index, progress); !collected) return tl::unexpected(collected.error());
    index->complained = fileTroubles_ > 0;
    // A stamp for every frame, or numbers for all.
    std::set<std::int64_t> stamps;
    for (const VideoPacket& packet : index->packets)
        if (!packet.hidden && (packet.stamp == AV_NOPTS_VALUE || !stamps.insert(packet.stamp).second))
            index->stampsAreRanks = true;
    if (index->stampsAreRanks)
        for (std::size_t i = 0; i < index->packets.size(); ++i) index->packets[i].stamp = std::int64_t(i);
    if (!index->packets.empty()) index->packets.front().key = true;
    for (std::size_t i = 0; i < index->packets.size(); ++i)
        if (!index->packets[i].hidden) index->shown.push_back({index->packets[i].stamp, i, 0});
    std::sort(index->shown.begin(), index->shown.end(),
              [](const ShownFrame& a, const ShownFrame& b) { return a.stamp < b.stamp; });
    if (index->stampsAreRanks && stream()->codecpar->video_delay > 0) {
        index_ = index;
        learnOrder(*index);
    }
    std::vector<std::size_t> keys;
    for (std::size_t i = 0; i < index->packets.size(); ++i)
        if (index->packets[i].key) keys.push_back(i);
    // A frame that is shown before the key frame it follows in the file leans on the key frame before that one.
    for (ShownFrame& frame : index->shown) {
        auto key = std::upper_bound(keys.begin(), keys.end(), frame.packet);
        while (key != keys.begin() && index->packets[*std::prev(key)].stamp > frame.stamp) --key;
        frame.keyPacket = key == keys.begin() ? 0 : *std::prev(key);
    }
    if (index->shown.empty()) return failure(Fault::input, "{}: holds no picture that can be decoded", path_.string());
    index_ = index;
    next_ = -1;
    nextPacket_ = index->packets.size() + 1;  // wherever it is, it is not at a place that is known
    return index;
}

/// Where neither packets nor frames carry stamps and frames are coded in another order than shown, only decoding
/// tells the order.
void VideoDecoder::learnOrder(VideoIndex& index) {
    std::vector<ShownFrame> order;
    if (!rewindTo(0)) return;
    DecodedFrame decoded;
    for (int number = 0; decodeNext(decoded, number);)
        if (number >= 0) order.push_back(index.shown[std::size_t(number)]);
    if (order.empty()) return;
    for (std::size_t i = 0; i < order.size(); ++i) {
        index.packets[order[i].packet].stamp = std::int64_t(i);
        order[i].stamp = std::int64_t(i);
    }
    index.shown = std::move(order);
}

bool VideoDecoder::rewindTo(std::size_t packet) {
    avcodec_flush_buffers(decoder_.get());
    draining_ = false;
    tainted_ = false;
    const VideoPacket& target = index_->packets[packet];
    const auto landedOn = [&]() -> std::size_t {
        // Where the demuxer is now: known by the next packet's place.
        while (av_read_frame(format_.get(), packet_.get()) >= 0) {
            if (packet_->stream_index == streamNumber_) {
                for (std::size_t i = 0; i < index_->packets.size(); ++i)
                    if (index_->packets[i].position == packet_->pos && index_->packets[i].decodeStamp == packet_->dts)
                        return i;
                return index_->packets.size();
            }
            av_packet_unref(packet_.get());
        }
        return index_->packets.size();
    };
    const auto arrives = [&](std::size_t at) {
        if (at > packet) {
            av_packet_unref(packet_.get());
            return false;
        }
        // Up to the packet wanted, without decoding.
        while (at < packet) {
            av_packet_unref(packet_.get());
            if (av_read_frame(format_.get(), packet_.get()) < 0) return false;
            if (packet_->stream_index == streamNumber_) ++at;
        }
        nextPacket_ = packet;
        return true;
    };
    for (const std::int64_t stamp : {target.decodeStamp, index_->stampsAreRanks ? AV_NOPTS_VALUE : target.stamp}) {
        if (stamp == AV_NOPTS_VALUE) continue;
        if (avformat_seek_file(format_.get(), streamNumber_, INT64_MIN, stamp, stamp, 0) < 0) continue;
        if (arrives(landedOn())) return true;
    }
    // From the beginning, for what cannot be sought in or seeks badly.
    if (avformat_seek_file(format_.get(), streamNumber_, INT64_MIN, INT64_MIN, INT64_MAX, 0) >= 0 &&
        arrives(landedOn()))
        return true;
    const auto reopened = VideoDecoder::open(path_);
    if (!reopened) return false;
    format_ = std::move((*reopened)->format_);
    format_->opaque = &fileTroubles_;
    return arrives(landedOn());
}

bool VideoDecoder::decodeNext(DecodedFrame& frame, int& number) {
    FramePtr picture(av_frame_alloc(), DecoderFree{});
    int refused = 0;
    while (true) {
        const int received = avcodec_receive_frame(decoder_.get(), picture.get());
        if (received >= 0) break;
        if (received == AVERROR_EOF) return false;
        if (received != AVERROR(EAGAIN)) {
            tainted_ = true;  // a frame was lost
            if (draining_ && ++refused < 64) continue;
        }
        if (draining_) return false;
        // A packet may be waiting already, from finding the place in the file.
        while (packet_->data == nullptr || packet_->stream_index != streamNumber_) {
            av_packet_unref(packet_.get());
            if (av_read_frame(format_.get(), packet_.get()) < 0) {
                draining_ = true;
                break;
            }
        }
        if (draining_) {
            avcodec_send_packet(decoder_.get(), nullptr);
            continue;
        }
        if (index_->stampsAreRanks) packet_->pts = std::int64_t(nextPacket_);
        const int troubles = troubles_;
        const int sent = avcodec_send_packet(decoder_.get(), packet_.get());
        if (sent != AVERROR(EAGAIN)) {
            if (carefulFrom_ != kFast && troubles_ != troubles) troubled_.insert(nextPacket_);
            av_packet_unref(packet_.get());
            ++nextPacket_;
            if (sent < 0) tainted_ = true;
        }
    }
    std::int64_t stamp = picture->pts;
    if (stamp == AV_NOPTS_VALUE) stamp = picture->best_effort_timestamp;
    number = -1;
    if (stamp != AV_NOPTS_VALUE) {
        if (index_->stampsAreRanks) {
            // Ranks may have been put in the order shown since: what counts is the packet.
            stamp = stamp >= 0 && std::size_t(stamp) < index_->packets.size()
                        ? index_->packets[std::size_t(stamp)].stamp
                        : AV_NOPTS_VALUE;
        }
        number = index_->indexOf(stamp);
    }
    bool key = picture->key_frame, own = picture->decode_error_flags != 0 || (picture->flags & AV_FRAME_FLAG_CORRUPT);
    if (number >= 0) {
        const std::size_t brought = index_->shown[std::size_t(number)].packet;
        const VideoPacket& packet = index_->packets[brought];
        key = key || packet.key;
        own = own || packet.broken;
        // Some decoders speak of damage and mark nothing.
        if (!marksDamage(decoder_->codec_id)) own = own || troubled_.contains(brought);
    }
    if (key) tainted_ = false;
    // Others may be predicted from it, but hardly from one that is itself predicted from both sides.
    if (own && picture->pict_type != AV_PICTURE_TYPE_B) tainted_ = true;
    frame = {std::move(picture), own || tainted_};
    return true;
}

DecodedFrame VideoDecoder::decodeUpTo(int number, int keepFrom) {
    DecodedFrame frame;
    for (int at = -1; decodeNext(frame, at);) {
        if (at < 0) continue;
        // Frames come in the order shown: what was passed over is lost, and what follows may lean on it.
        if (next_ >= 0 && at > next_) {
            tainted_ = !frame.picture->key_frame;
            frame.damaged = frame.damaged || tainted_;
        }
        next_ = at + 1;
        if (at > number) {
            kept_[at] = frame;
            return {};
        }
        if (at >= keepFrom) kept_[at] = frame;
        if (at == number) return frame;
    }
    next_ = -1;
    return {};
}

std::pair<int, int> VideoDecoder::run() const {
    return kept_.empty() ? std::pair{1, 0} : std::pair{kept_.begin()->first, kept_.rbegin()->first};
}

DecodedFrame VideoDecoder::frame(int number) {
    if (const auto kept = kept_.find(number); kept != kept_.end()) return kept->second;
    const int troubles = troubles_;
    const std::size_t key = index_->shown[std::size_t(number)].keyPacket;
    DecodedFrame frame = fetch(number);
    if (troubles_ == troubles || carefulFrom_ == key) return frame;
    // Something on the way is damaged: once more, so that it is known what.
    carefulFrom_ = key;
    if (auto opened = openDecoder(true); !opened) return {};
    troubled_.clear();
    kept_.clear();
    next_ = -1;
    return fetch(number);
}

DecodedFrame VideoDecoder::fetch(int number) {
    const ShownFrame& wanted = index_->shown[std::size_t(number)];
    const ShownFrame* at =
        next_ >= 0 && next_ < int(index_->shown.size()) ? &index_->shown[std::size_t(next_)] : nullptr;
    if (at && number >= next_ && wanted.keyPacket <= std::max(at->keyPacket, at->packet)) {
        kept_.clear();
        return decodeUpTo(number, number + 1);
    }
    const bool back = next_ >= 0 && number < next_;
    std::size_t room = 1;
    if (back) {
        const AVCodecParameters* parameters = stream()->codecpar;
        AVFrame like{};
        like.format = parameters->format;
        like.width = parameters->width;
        like.height = parameters->height;
        room = std::max<std::size_t>(kBehind, kRunBytes / bytesOf(like));
    }
    kept_.clear();
    if (carefulFrom_ != kFast && carefulFrom_ != wanted.keyPacket) {
        carefulFrom_ = kFast;
        troubled_.clear();
        if (auto opened = openDecoder(false); !opened) return {};
    }
    // A damaged start, or a decoder that needs frames from before a key frame, has to be met from farther back.
    std::size_t from = wanted.keyPacket;
    for (int attempt = 0; attempt < 3; ++attempt) {
        if (!rewindTo(from)) break;
        next_ = -1;
        DecodedFrame frame = decodeUpTo(number, std::max(0, number - int(room) + 1));
        if (frame.picture) return frame;
        if (from == 0) break;
        kept_.clear();
        if (attempt == 1) from = 0;
        else do
                --from;
            while (from > 0 && !index_->packets[from].key);
    }
    next_ = -1;
    return {};
}

}  // namespace pinion
