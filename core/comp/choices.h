#pragma once

#include <optional>
#include <string_view>

namespace pinion {

/// How a picture is read between its pixels: linear; Catmull-Rom (Keys 1981, a = -1/2); Lanczos with three lobes
/// (sharpest).
enum class ResampleFilter { bilinear, bicubic, lanczos };

/// What lies beyond the source's border: black; its last pixels drawn out; its mirror image.
enum class EdgeMode { empty, held, mirrored };

std::string_view toString(ResampleFilter filter);
std::optional<ResampleFilter> resampleFilterFrom(std::string_view word);
std::string_view toString(EdgeMode edges);
std::optional<EdgeMode> edgeModeFrom(std::string_view word);

/// How a bent picture is read between its pixels: linear; by the cubic spline through them (Unser 1999); Lanczos with
/// three lobes; or by the area that an output pixel covers in the source (an elliptical Gaussian, Heckbert 1989; where
/// it does not shrink it is the cubic spline), for strong bends.
enum class BendFilter { bilinear, bicubic, lanczos, area };
std::string_view toString(BendFilter filter);
std::optional<BendFilter> bendFilterFrom(std::string_view word);

/// The overscan to take: what the lens needs, none, or a number of pixels on every side.
struct Overscan {
    enum class Kind { automatic, none, pixels };
    Kind kind = Kind::automatic;
    int pixels = 0;

    bool operator==(const Overscan&) const = default;
};

}  // namespace pinion
