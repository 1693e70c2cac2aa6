#pragma once

#include "base/expected.h"
#include "base/framerate.h"

#include <cstdint>
#include <filesystem>
#include <memory>
#include <span>

namespace pinion {

struct VideoOptions {
    /// Constant quality of the H.264 encoder: 0 is lossless, 18 hardly visible, 30 coarse. Lower is larger.
    int quality = 18;
    double pixelAspect = 1;  ///< width of a pixel to its height
    bool small = false;      ///< the same picture in fewer bytes, slowly
};

/// Writes a video, frame after frame, beside its place; `finish` renames it there. Not finished, it leaves nothing.
class VideoWriter {
public:
    static Expected<std::unique_ptr<VideoWriter>> create(const std::filesystem::path& path, int width, int height,
                                                         FrameRate fps, const VideoOptions& options = {});
    virtual ~VideoWriter() = default;

    /// `rgb`: width * height * 3 bytes, rows from the top.
    virtual Expected<void> write(std::span<const std::uint8_t> rgb) = 0;
    virtual Expected<void> finish() = 0;
};

}  // namespace pinion
