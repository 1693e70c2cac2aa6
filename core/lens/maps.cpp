#include "lens/maps.h"

#include <algorithm>
#include <cmath>
#include <optional>

namespace pinion {
namespace {

using Eigen::Vector2d;

constexpr double kFine_px = 0.02;     // what the field may miss the map by before its cells get smaller
constexpr double kRough_px = 0.25;    // and more than this is no lens
constexpr double kReturns_px = 0.5;   // pairs that miss each other by more are refused
constexpr double kNotable_px = 0.05;  // and from here on it is said

/// Where a pixel of the map looks, in pixels; none where the map has no answer.
std::optional<Vector2d> placeOf(const StMap& map, std::size_t index) {
    const double s = map.st[2 * index], t = map.st[2 * index + 1];
    if (s == -1.0 && t == -1.0) return std::nullopt;
    return Vector2d(s * map.width, (1 - t) * map.height);
}

std::size_t indexOf(const StMap& map, int x, int y) {
    return std::size_t(y - map.data.y0) * std::size_t(map.data.width()) + std::size_t(x - map.data.x0);
}

/// The rounding of half floats near 1, in pixels.
double coarseness(const StMap& map) { return map.isHalf ? std::hypot(map.width, map.height) / 4096.0 : 0; }

Expected<void> checkMap(const StMap& map, const char* which, int width, int height) {
    if (map.width != width || map.height != height)
        return failure(Fault::input,
                       "the {} map is for {}x{}, the plate is {}x{}; one of another size bends the wrong pixels", which,
                       map.width, map.height, width, height);
    return {};
}

/// The redistorting map has to say for every pixel of the plate where its straight place is.
Expected<void> checkWhole(const StMap& map) {
    const PixelBox& box = map.data;
    if (box.x0 > 0 || box.y0 > 0 || box.x1 < map.width || box.y1 < map.height)
        return failure(Fault::input,
                       "the redistorting map has answers from ({}, {}) to ({}, {}) only; the whole plate is needed",
                       box.x0, box.y0, box.x1, box.y1);
    int none = 0;
    Vector2d first(0, 0);
    for (int y = 0; y < map.height; ++y)
        for (int x = 0; x < map.width; ++x)
            if (!placeOf(map, indexOf(map, x, y)) && none++ == 0) first = {x, y};
    if (none == 0) return {};
    return failure(Fault::input, "the redistorting map has no answer at {} pixels, the first at ({:.0f}, {:.0f})", none,
                   first.x(), first.y());
}

struct Fitted {
    LensField field;
    double rms_px = 0;
    double worst_px = 0;
    Vector2d worstAt{0, 0};
};

Fitted fittedField(const StMap& map, int cell) {
    const auto offset = [&](int x, int y) -> Vector2d {
        return *placeOf(map, indexOf(map, x, y)) - Vector2d(x + 0.5, y + 0.5);
    };
    const auto cells = [&](int length) { return std::max(1, int(std::lround(double(length) / cell))); };
    const LensField raw = LensField::nearest(map.width, map.height, cells(map.width), cells(map.height), offset);
    // To a hundred thousandth of a pixel, so that it stays the same through a file, and files stay small.
    std::vector<Vector2d> coefficients = raw.coefficients();
    for (Vector2d& one : coefficients) one = (one.array() * 1e5).round().matrix() / 1e5;
    Fitted result{{map.width, map.height, raw.columns(), raw.rows(), std::move(coefficients)}};
    double squares = 0;
    for (int y = 0; y < map.height; ++y)
        for (int x = 0; x < map.width; ++x) {
            const double apart = (result.field.at({x + 0.5, y + 0.5}).offset - offset(x, y)).norm();
            squares += apart * apart;
            if (apart <= result.worst_px) continue;
            result.worst_px = apart;
            result.worstAt = {x, y};
        }
    result.rms_px = std::sqrt(squares / (double(map.width) * map.height));
    return result;
}

/// Places of the undistorted picture through the one map on to the plate and back through the other.
void measureReturn(const StMap& undistorting, const LensField& field, MapsLens& result) {
    const PixelBox& box = undistorting.data;
    const int step = std::max(1, int(std::sqrt(double(box.width()) * box.height() / 5e5)));
    const auto look = [&](int x, int y) {
        const auto plate = placeOf(undistorting, indexOf(undistorting, x, y));
        if (!plate || plate->minCoeff() < 0 || plate->x() > undistorting.width || plate->y() > undistorting.height)
            return false;
        const double apart = (*plate + field.at(*plate).offset - Vector2d(x + 0.5, y + 0.5)).norm();
        if (apart > result.returns_px) {
            result.returns_px = apart;
            result.worstAt = {x, y};
        }
        return true;
    };
    for (int y = box.y0; y < box.y1; y += step)
        for (int x = box.x0; x < box.x1; x += step) look(x, y);
}

/// Whether any place of the undistorted picture lies on the plate.
bool answersAnywhere(const StMap& map) {
    for (std::size_t i = 0; i < map.st.size() / 2; i += 97) {
        const auto place = placeOf(map, i);
        if (place && place->minCoeff() >= 0 && place->x() <= map.width && place->y() <= map.height) return true;
    }
    return false;
}

/// How pixels stand to the places that they and their neighbours look at.
struct Steps {
    int asked = 0, jumps = 0, still = 0, mirrored = 0;
    Vector2d worstAt{0, 0};
};

Steps stepsOf(const StMap& map) {
    constexpr double kFarthest = 20, kNearest = 0.02;  // pixels, from one pixel's place to the next one's
    Steps steps;
    const PixelBox& box = map.data;
    const int step = std::max(1, int(std::sqrt(double(box.width()) * box.height() / 2e5)));
    for (int y = box.y0; y + 1 < box.y1; y += step)
        for (int x = box.x0; x + 1 < box.x1; x += step) {
            const auto here = placeOf(map, indexOf(map, x, y)), right = placeOf(map, indexOf(map, x + 1, y)),
                       below = placeOf(map, indexOf(map, x, y + 1));
            if (!here || !right || !below) continue;
            ++steps.asked;
            const Vector2d across = *right - *here, down = *below - *here;
            if (std::max(across.norm(), down.norm()) > kFarthest) {
                if (steps.jumps++ == 0) steps.worstAt = {x, y};
            } else if (std::min(across.norm(), down.norm()) < kNearest) {
                ++steps.still;
            } else if (!(across.x() > 0 && down.y() > 0)) {
                ++steps.mirrored;
            }
        }
    return steps;
}

}  // namespace

Expected<void> checkStMap(const StMap& map, bool isRedistorting) {
    const PixelBox& box = map.data;
    if (isRedistorting) {
        if (auto whole = checkWhole(map); !whole) return whole;
    } else if (box.x1 <= 0 || box.y1 <= 0 || box.x0 >= map.width || box.y0 >= map.height) {
        return failure(Fault::input,
                       "the map has answers from ({}, {}) to ({}, {}) only, none of them in the frame of {}x{}", box.x0,
                       box.y0, box.x1, box.y1, map.width, map.height);
    }
    double largest = 0;
    for (const float value : map.st) largest = std::max(largest, std::abs(double(value)));
    constexpr double kMost = 8;  // frames: no lens looks farther
    if (largest > kMost)
        return failure(
            Fault::input,
            "the map's values reach {:.4g}: they seem to be pixels; shares of the frame from 0 to 1 are needed",
            largest);
    const Steps steps = stepsOf(map);
    constexpr double kMostWrong = 0.02;
    const auto many = [&](int count) { return count > kMostWrong * steps.asked; };
    if (steps.asked == 0) return failure(Fault::input, "the map has no answer anywhere");
    if (many(steps.still)) return failure(Fault::input, "the map looks at one place from many pixels: it is no lens's");
    if (many(steps.jumps))
        return failure(Fault::input, "the map is no lens's: neighbouring pixels jump, the first at ({:.0f}, {:.0f})",
                       steps.worstAt.x(), steps.worstAt.y());
    if (many(steps.mirrored))
        return failure(Fault::input,
                       "the map turns the picture over: its first channel has to grow to the right, its "
                       "second upwards");
    if (!answersAnywhere(map)) return failure(Fault::input, "the map looks nowhere on the picture");
    return {};
}

namespace {

Expected<MapsLens> lensOfPair(const StMap& undistorting, const StMap& redistorting, int width, int height,
                              double focal_px) {
    for (const auto& [map, which] : {std::pair{&undistorting, "undistorting"}, {&redistorting, "redistorting"}})
        if (auto fits = checkMap(*map, which, width, height); !fits) return tl::unexpected(fits.error());
    if (auto whole = checkWhole(redistorting); !whole) return tl::unexpected(whole.error());
    if (!answersAnywhere(undistorting)) return failure(Fault::input, "the undistorting map looks nowhere on the plate");

    const double coarse = coarseness(redistorting);
    // The rounding of half floats beats with the pixels over some 15 of them: wide cells average over that.
    int cell = redistorting.isHalf ? 96 : 16;
    Fitted field = fittedField(redistorting, cell);
    while (cell > 4 && field.rms_px > kFine_px + 0.6 * coarse) field = fittedField(redistorting, cell /= 2);
    if (field.rms_px > kRough_px + coarse)
        return failure(Fault::input,
                       "the redistorting map is no lens's: neighbouring pixels jump, by {:.1f} px at ({:.0f}, {:.0f})",
                       field.worst_px, field.worstAt.x(), field.worstAt.y());
    if (field.field.at({width / 2.0, height / 2.0}).slope(1, 1) < -1)
        return failure(Fault::input,
                       "the redistorting map turns the picture on its head: its second channel has to grow upwards");
    if (const auto fold = field.field.fold())
        return failure(Fault::input, "the redistorting map folds the picture over at ({:.0f}, {:.0f})", fold->x(),
                       fold->y());

    MapsLens result;
    result.lens = pinholeLens(width, height, focal_px);
    result.held_px = field.rms_px;
    measureReturn(undistorting, field.field, result);
    result.lens.field = SharedField(std::move(field.field));
    result.isHalf = undistorting.isHalf || redistorting.isHalf;
    const double rounding = std::max(coarse, coarseness(undistorting));
    if (result.returns_px > kReturns_px + 2 * rounding)
        return failure(Fault::input,
                       "the maps do not undo each other: at ({:.0f}, {:.0f}) of the undistorted picture a place comes "
                       "back {:.2f} px beside itself; take both maps of one lens",
                       result.worstAt.x(), result.worstAt.y(), result.returns_px);
    if (rounding > 0)
        result.warnings.push_back(fmt::format(
            "half floats place a pixel to about {:.1f} px only; they were smoothed, 32-bit floats are better",
            rounding));
    else if (result.returns_px > kNotable_px)
        result.warnings.push_back(fmt::format("a place comes back up to {:.2f} px beside itself, at ({:.0f}, {:.0f})",
                                              result.returns_px, result.worstAt.x(), result.worstAt.y()));
    return result;
}

}  // namespace

Expected<MapsLens> lensFromMaps(const StMap& undistorting, const StMap& redistorting, int width, int height,
                                double focal_px) {
    auto lens = lensOfPair(undistorting, redistorting, width, height, focal_px);
    if (!lens && lensOfPair(redistorting, undistorting, width, height, focal_px))
        return failure(lens.error().fault, "{}. The other way round they fit: the two are swapped",
                       lens.error().message);
    return lens;
}

}  // namespace pinion
