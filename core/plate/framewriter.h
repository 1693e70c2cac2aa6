#pragma once

#include "base/expected.h"
#include "base/framerate.h"
#include "picture/picture.h"
#include "plate/plate.h"

#include <filesystem>
#include <memory>
#include <optional>
#include <string>
#include <vector>

namespace pinion {

struct FrameWriterOptions {
    /// Of a video: 0 is lossless, 18 hardly visible, 30 coarse.
    int quality = 16;

    /// Floats as 16-bit half in EXR where the source was half; 32-bit otherwise.
    bool half = false;

    /// Where the pictures lie about the plate's frame, when they are larger or smaller (overscan): EXR has it as data
    /// window, within the frame as display window. PNG and TIFF hold no windows: there the place of the frame's corner
    /// is put into the name ("out.o32x18.1001.png": the frame begins 32 pixels right and 18 below) and, with everything
    /// else, into "out.overscan.json" beside them.
    std::optional<FrameWindow> window;

    /// Width of a pixel to its height: kept by EXR, TIFF, PNG and videos alike.
    double pixelAspect = 1;
};

/// Channels under names of their own, as EXR has them in layers: "depth.Z", "normal.X".
struct NamedChannels {
    int width = 0, height = 0;
    std::vector<std::string> names;
    std::vector<float> values;  ///< rows from the top; all channels of a pixel one after the other
};

/// Whether a path stands for the files of a sequence: it has #### or %04d for the frame's number.
bool isSequencePattern(const std::filesystem::path& path);
/// What a video or a sequence is called, without number and ending: "lamp" of "lamp.####.png".
std::string nameWithoutNumber(const std::filesystem::path& path);
/// The file of one frame of a sequence written to `pattern`; of a video itself.
std::filesystem::path frameFile(const std::filesystem::path& pattern, int frame);

/// Writes pictures as a video or as a numbered sequence, by the name: `out.mp4`, `out.####.exr`, `out.%04d.png`. Each
/// file of a sequence is written beside its place and renamed, so stopping leaves whole frames only. EXR holds
/// scene-linear values, the others display-ready ones; 8-bit pictures stay 8-bit in PNG and TIFF, floats become 16-bit
/// there.
class FrameWriter {
public:
    /// Of pictures of `width` x `height`. Fails for a name without a number or a known ending, saying what to write
    /// instead.
    static Expected<std::unique_ptr<FrameWriter>> create(const std::filesystem::path& pattern, int width, int height,
                                                         FrameRate fps, const FrameWriterOptions& options = {});
    /// Of pictures made from a plate, of its size, rate and pixel aspect; of another size where one is given.
    static Expected<std::unique_ptr<FrameWriter>> createFor(const PlateFacts& plate,
                                                            const std::filesystem::path& pattern,
                                                            FrameWriterOptions options = {}, int width = 0,
                                                            int height = 0);
    virtual ~FrameWriter() = default;

    /// Of a sequence several frames may be written at once, from several threads; those of a video come in their order.
    virtual Expected<void> write(int frame, const Picture& picture) = 0;
    /// With an alpha of the same size; a video has no place for it. `given` says how the picture's colours, in its own
    /// tones, stand to it; `stored` how those of the file shall, in the file's. PNG holds straight ones alone.
    virtual Expected<void> write(int frame, const Picture& picture, const ImageChannel& alpha, AlphaKind given,
                                 AlphaKind stored) = 0;
    /// One channel by itself, 0 to 1, as it is: 16 bits in PNG and TIFF.
    virtual Expected<void> write(int frame, const ImageChannel& plane) = 0;
    /// Whatever is measured of each pixel, as it is, in 32 bits. EXR alone holds it; fails for others, saying so.
    virtual Expected<void> write(int frame, const NamedChannels& channels) = 0;
    /// Puts a video in its place; nothing for a sequence.
    virtual Expected<void> finish() = 0;
};

}  // namespace pinion
