#pragma once

#include "comp/choices.h"
#include "comp/warp.h"
#include "lens/lens.h"
#include "lens/stmap.h"
#include "picture/picture.h"

#include <functional>
#include <memory>
#include <optional>
#include <vector>

namespace pinion {

/// For each pixel of `out`, where it is found in the source: pixels from the outer corner of the source's first pixel;
/// NaN where no ray comes.
struct LookUp {
    PixelBox out;
    int samples = 1;        ///< across and down, of each pixel
    std::vector<float> xy;  ///< pairs; rows of out.width() * samples, out.height() * samples of them
};

/// A table by what tells the source's place of a place of `out`; nothing where there is none.
LookUp lookUpBy(const PixelBox& out, int samples,
                const std::function<std::optional<Eigen::Vector2d>(const Eigen::Vector2d&)>& place);

/// The box of undistorted pixels that a plate of this lens fills with that overscan. Fails when it would be more than
/// four times the frame.
Expected<PixelBox> undistortedBox(const Lens& lens, const Overscan& overscan);

/// Takes the distortion out: from the plate into `out` (undistorted pixels). `samples` x `samples` lookups a pixel.
LookUp undistorting(const Lens& lens, const PixelBox& out, int samples = 1);
/// Puts it back: from undistorted pictures that fill `source` into the plate's frame.
LookUp redistorting(const Lens& lens, const PixelBox& source, int samples = 1);
/// By an ST map whose looked-up picture has `source` as data window within a frame of `width` x `height`.
LookUp lookUpOf(const StMap& map, const PixelBox& source, int width, int height);

/// How far each pixel of the plate comes back beside itself, in pixels, when its place is looked up by `back` (one
/// sample a pixel) and from there between the places of `out`: rows from the top; NaN for what is lost on the way.
std::vector<float> roundTripError(const LookUp& out, const LookUp& back);

/// The picture read through the table in one resampling, of the same depth and colour. Where nothing is found it is
/// black, but for a rim of four pixels about the source, or as `edges` says. Runs on all threads.
Picture bent(const Picture& source, const LookUp& table, BendFilter filter = BendFilter::bicubic,
             EdgeMode edges = EdgeMode::empty);

/// The same for the screen, quickly: bilinear, for rows of 4-byte pixels as `displayPixels` makes them of a picture of
/// `width` x `height` (two pixels at least each way). Where nothing is found a pixel is 0, which is transparent.
class DisplayBend {
public:
    DisplayBend() = default;
    DisplayBend(const LookUp& table, int width, int height);
    /// As many pixels as the table has.
    std::unique_ptr<std::uint32_t[]> bent(const std::vector<std::uint32_t>& pixels) const;

private:
    /// Columns of a row that have a place in the source.
    struct Span {
        std::size_t begin = 0, end = 0;
    };
    PixelBox out_;
    int width_ = 0, height_ = 0;
    std::vector<std::int32_t> at_;
    std::vector<std::uint8_t> across_, down_;
    std::vector<std::vector<Span>> spans_;  ///< of each row
};

}  // namespace pinion
