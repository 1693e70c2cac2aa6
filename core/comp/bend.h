#pragma once

#include "comp/warp.h"
#include "lens/lens.h"
#include "lens/stmap.h"
#include "picture/picture.h"

#include <memory>
#include <vector>

namespace pinion {

/// How a bent picture is read between its pixels: linear; by the cubic spline through them (Unser 1999); Lanczos with
/// three lobes; or by the area that an output pixel covers in the source (an elliptical Gaussian, Heckbert 1989; where
/// it does not shrink it is the cubic spline), for strong bends.
enum class BendFilter { bilinear, bicubic, lanczos, area };
std::string_view toString(BendFilter filter);
std::optional<BendFilter> bendFilterFrom(std::string_view word);

/// For each pixel of `out`, where it is found in the source: pixels from the outer corner of the source's first pixel;
/// NaN where no ray comes.
struct LookUp {
    PixelBox out;
    int samples = 1;        ///< across and down, of each pixel
    std::vector<float> xy;  ///< pairs; rows of out.width() * samples, out.height() * samples of them
};

/// The overscan to take: what the lens needs, none, or a number of pixels on every side.
struct Overscan {
    enum class Kind { automatic, none, pixels };
    Kind kind = Kind::automatic;
    int pixels = 0;

    bool operator==(const Overscan&) const = default;
};

/// The box of undistorted pixels that a plate of this lens fills with that overscan. Fails when it would be more than
/// four times the frame.
Expected<PixelBox> undistortedBox(const Lens& lens, const Overscan& overscan);

/// Takes the distortion out: from the plate into `out` (undistorted pixels). `samples` x `samples` lookups a pixel.
LookUp undistorting(const Lens& lens, const PixelBox& out, int samples = 1);
/// Puts it back: from undistorted pictures that fill `source` into the plate's frame.
LookUp redistorting(const Lens& lens, const PixelBox& source, int samples = 1);
/// By an ST map whose looked-up picture has `source` as data window within a frame of `width` x `height`.
LookUp lookUpOf(const StMap& map, const PixelBox& source, int width, int height);

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
    /// The columns of a row that have a place in the source.
    struct Span {
        std::size_t begin = 0, end = 0;
    };
    PixelBox out_;
    int width_ = 0, height_ = 0;
    std::vector<std::int32_t> at_;
    std::vector<std::uint8_t> across_, down_;
    std::vector<Span> spans_;
};

}  // namespace pinion
