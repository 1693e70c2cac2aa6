#pragma once

#include "base/expected.h"
#include "base/framerate.h"
#include "base/progress.h"
#include "picture/picture.h"

#include <filesystem>
#include <memory>
#include <optional>
#include <string>
#include <vector>

namespace pinion {

/// A frame of `width` x `height`, and the corner of a picture that lies about it: negative for overscan.
struct FrameWindow {
    int width = 0, height = 0;
    int x0 = 0, y0 = 0;
};

enum class PlateKind { video, sequence };

/// What a plate says of itself.
struct PlateFacts {
    std::filesystem::path path;  ///< the video, or the sequence's pattern with #### for the number
    PlateKind kind = PlateKind::video;
    int width = 0;
    int height = 0;
    std::optional<FrameWindow> window;  ///< when it was opened with its overscan
    FrameRate fps;
    bool fpsFromPlate = true;  ///< false: a sequence that does not say; 24 is assumed
    int firstFrame = 1001;
    int lastFrame = 1001;  ///< inclusive
    double pixelAspect = 1.0;
    std::string pixelFormat;  ///< "yuv420p", "rgb half", ...
    bool linear = false;      ///< scene-linear values, shown through the display transform
    /// How its colours stand to its alpha, where it has one and the file or its standard says so: EXR premultiplied,
    /// PNG straight (their standards), TIFF by its ExtraSamples, VP8 and VP9 straight (the WebM container's alpha).
    std::optional<AlphaKind> alphaKind;
    std::vector<int> missing;  ///< frames between first and last that have no file, or that the video breaks off before
    int turned = 0;            ///< degrees clockwise that frames are turned by, because the video says that it lies so
    bool interlaced = false;   ///< two fields a frame, taken at different times
    /// Frames of a video that are shown for longer or shorter than the others. Where there are any, `times` says when
    /// each frame is shown.
    int unevenFrames = 0;
    FrameTimes times;
    std::vector<std::string> remarks;  ///< what else is worth knowing, a sentence each

    int frameCount() const { return lastFrame - firstFrame + 1; }
    bool holds(int frame) const { return frame >= firstFrame && frame <= lastFrame; }
};

struct PlateOptions {
    /// The number of a video's first frame; videos carry none, and the trade counts from 1001. Sequences keep their
    /// own.
    int firstFrameOfVideo = 1001;

    /// Overrides the rate the plate says, for sequences that say none or say it wrongly.
    std::optional<FrameRate> fps;

    /// Pictures of a sequence with all that lies about their frame (the data windows of EXR; of others what
    /// "name.overscan.json" beside them says), as one size: `PlateFacts::window` says where the frame is.
    bool overscan = false;
};

/// A readable plate. Open it once and keep it: opening a video builds its index. Safe to read from several threads.
class Plate {
public:
    virtual ~Plate() = default;

    /// Opens a video file, a sequence (`plate.%04d.exr`, `plate.####.exr`, or the path of one of its frames) or a
    /// folder holding one of either. Gaps in a sequence are listed in the facts, not errors. Fails with what was found
    /// instead.
    static Expected<std::shared_ptr<const Plate>> open(const std::filesystem::path& path,
                                                       const PlateOptions& options = {},
                                                       const Progress& progress = Progress{});

    const PlateFacts& facts() const { return facts_; }

    /// One frame, by its number. Fails for a frame outside the plate, missing, unreadable or of another size.
    virtual Expected<PicturePtr> read(int frame) const = 0;

    /// The alpha of one frame as it is stored, 0 to 1; none where the plate has none. Fails as `read`.
    virtual Expected<std::optional<ImageChannel>> readAlpha(int) const { return std::optional<ImageChannel>(); }

    /// The file that a frame is read from; empty for one that has none.
    virtual std::filesystem::path fileOf(int) const { return facts_.path; }

    /// Frames that cannot be decoded or are in part made up, found by decoding all of a video; a sequence tells when a
    /// frame is read. Ends early when stopped.
    virtual std::vector<int> damagedFrames(const Progress&) const { return {}; }

protected:
    PlateFacts facts_;
};

/// One picture by itself, whatever its name: a chart, a piece of art.
Expected<PicturePtr> readStill(const std::filesystem::path& path);

/// Whether a name ends as a picture's file does, in small or capital letters.
bool isPictureName(const std::filesystem::path& path);
/// The pattern of the numbered pictures that a file is one of, "lamp.####.png"; empty where it has no number.
std::filesystem::path sequenceAround(const std::filesystem::path& file);
/// Those pictures, by rising number.
std::vector<std::filesystem::path> picturesAround(const std::filesystem::path& fileOrPattern);

}  // namespace pinion
