#pragma once

#include "base/progress.h"
#include "comp/bend.h"
#include "comp/putback.h"
#include "comp/warp.h"
#include "matte/matte.h"
#include "plate/framecache.h"
#include "plate/framewriter.h"
#include "steady/steady.h"

#include <filesystem>
#include <functional>
#include <memory>
#include <vector>

namespace pinion {

struct RenderOptions {
    ResampleFilter filter = ResampleFilter::bicubic;
    EdgeMode edges = EdgeMode::empty;
    /// Of a video: 0 is lossless, 18 hardly visible.
    int quality = 16;
    int width = 0, height = 0;          ///< of what is written; 0: as the plate
    std::optional<FrameWindow> window;  ///< where that lies about a frame of another size
};

struct RenderReport {
    int frames = 0;            ///< written
    std::vector<int> missing;  ///< unreadable in the source, left out of a sequence, repeated in a video
    bool stopped = false;      ///< a sequence keeps what was written, a video leaves nothing
};

/// Reads each frame of the plate through its map and writes it to `pattern` (see `FrameWriter`), at the depth of the
/// source and in one resampling. The next frame is read and the last one written while one is warped.
Expected<RenderReport> renderFrames(FrameCache& frames, const std::vector<FrameMap>& maps,
                                    const std::filesystem::path& pattern, const RenderOptions& options = {},
                                    const Progress& progress = Progress{});

/// Writes what was made of one frame.
using WriteFrame = std::function<Expected<void>(FrameWriter& writer, int frame)>;
WriteFrame writingOf(Picture picture);
/// Any other way to make pictures of the plate: reads each frame, has `made` make something of it (it is told the
/// frame's place in the list) and writes that to `pattern`. The next frame is read and the last one written meanwhile.
Expected<RenderReport> renderMade(FrameCache& frames, const std::vector<int>& numbers,
                                  const std::filesystem::path& pattern, const RenderOptions& options,
                                  const std::function<Expected<WriteFrame>(const Picture&, std::size_t)>& made,
                                  const Progress& progress = Progress{});

struct PutBackReport {
    RenderReport render;
    std::vector<int> unchanged;  ///< frames that are the plate to the last bit, or had nothing to put back
    double changed = 0;          ///< the mean share of pixels that are not the plate's any more, of the others
};

struct PutBackSource {
    PutBackBy by = PutBackBy::difference;
    std::shared_ptr<const MattePictures> matte{};  ///< drawn on the held frames, when it goes by a matte
};

/// One frame of a picture that was taken off the plate: how it was taken, and how it comes back.
struct SheetMap {
    int frame = 0;
    std::function<Picture(const Picture& plate)> given;
    ComingBack back;  ///< may keep its table for the next call: a copy is called, and dropped with its frame
};
/// Puts back what was changed elsewhere on frames that were given out at the plate's size by `maps`: `made` holds them.
/// Fails when it is of another size, naming both, holds none of the frames, has no alpha when it should go by it, or
/// differs nearly everywhere from what was given out: another shot's.
Expected<PutBackReport> putBackFrames(FrameCache& frames, FrameCache& made, const std::vector<SheetMap>& maps,
                                      const std::filesystem::path& pattern, const RenderOptions& options = {},
                                      const Progress& progress = Progress{}, const PutBackSource& source = {});
/// The same of what was given out at any size, where it differs: `made` holds it at the size `given` makes.
Expected<PutBackReport> putBackSheets(FrameCache& frames, FrameCache& made, const std::vector<SheetMap>& maps,
                                      const std::filesystem::path& pattern, const Progress& progress = Progress{});

/// A matte that was drawn on the held frames, put back to where the plate has it, as a sequence of mattes.
Expected<RenderReport> putBackMattes(FrameCache& frames, const MattePictures& matte, const std::vector<SheetMap>& maps,
                                     const std::filesystem::path& pattern, const Progress& progress = Progress{});

struct BentOptions {
    int width = 0, height = 0;  ///< of the frame that the pictures lie about
    BendFilter filter = BendFilter::bicubic;
    EdgeMode edges = EdgeMode::empty;
    int quality = 16;
};

/// The same through a lens: each frame by the table that belongs to it, all of the first one's size. What is larger
/// than the frame is written with its window (see `FrameWriterOptions::window`).
Expected<RenderReport> renderBent(FrameCache& frames, const FrameRange& range,
                                  const std::function<std::shared_ptr<const LookUp>(int frame)>& tableAt,
                                  const std::filesystem::path& pattern, const BentOptions& options,
                                  const Progress& progress = Progress{});

}  // namespace pinion
