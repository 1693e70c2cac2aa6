#pragma once

#include "base/list.h"
#include "lens/lens.h"
#include "track/track.h"

#include <Eigen/Core>
#include <memory>
#include <optional>
#include <string_view>
#include <utility>
#include <vector>

namespace pinion {

/// How much is known of a quantity before the solve.
enum class Knowledge { known, guessed, unknown };

/// How a camera moves, from a picture's point of view.
enum class CameraMotion { travelling, nodal, locked };
std::string_view toString(CameraMotion motion);

/// How far apart the points of two tracks lie, measured on the set, with a standard deviation.
struct KnownDistance {
    TrackId a = 0, b = 0;
    double metres = 0;
    double sigma = 0.01;  ///< metres
};

/// Where the point of a track lies in the set's own coordinates (metres, Y up), with a standard deviation.
struct KnownPlace {
    TrackId track = 0;
    Eigen::Vector3d metres{0, 0, 0};
    double sigma = 0.01;  ///< metres
};

struct Solve;

/// What an artist decides about a solve (shot/solvesettings has the table of it).
struct SolveSettings {
    double sensorWidth_mm = 36.0;

    /// Known: kept as it is. Guessed: drawn to the value by its standard deviation. Unknown: searched from wide to
    /// long, then refined.
    Knowledge focal = Knowledge::unknown;
    double focal_mm = 35.0;
    double focalSigma_mm = 2.0;

    /// Known: `SolveOptions::lens` gives it, axis and all, and keeps it: at whatever focal length is found the same
    /// glass bends the same pixels; errors are then those of the straightened picture (its own focal length counts when
    /// `focal` is known and `focal_mm` is 0). Unknown: k1 and k2 are found. Guessed: they are found near those of the
    /// lens.
    enum class Distortion { none, known, unknown, k1, full, guessed };
    Distortion distortion = Distortion::unknown;

    /// Where the optical axis meets the plate. Automatic: near the middle, as far off as the tracks say against a
    /// standard deviation of `SolveOptions::axisSigma` widths. Centre: the middle, or the given lens' axis. Free:
    /// wherever the tracks put it.
    enum class Axis { automatic, centre, free };
    Axis axis = Axis::automatic;

    /// How the camera moves; found from the tracks when empty.
    std::optional<CameraMotion> motion;

    /// A focal length per frame, smooth in time; whether it is needed is found from the tracks when empty.
    std::optional<bool> zoom;

    /// How the sensor is read. Found: by rows where the tracks show it, else at once. Known: `readoutShare` as it is,
    /// or drawn to it by `readoutSigma` where that is above 0.
    enum class Reading { found, atOnce, known };
    Reading reading = Reading::found;
    double readoutShare = 0.5;  ///< as in Readout
    double readoutSigma = 0.02;
    /// Which way it is read. Where the readout is found, so is this: an upright plate may have been read by columns.
    enum class ReadBy { rows, columns };
    ReadBy readBy = ReadBy::rows;
    bool readsColumns() const { return readBy == ReadBy::columns; }

    /// The anamorphic squeeze; it is known or it is 1.
    double squeeze = 1.0;

    /// The two frames to start from; chosen by the parallax between them when empty.
    std::optional<std::pair<int, int>> basePair;

    /// Tracks that are known to be of the scene: the camera is the one that sees these stand still, whatever more of
    /// the tracks go together otherwise. Empty: what spreads over the picture and explains most tracks is the scene.
    List<TrackId> sceneOf;

    /// Measures from the set. One gives the scale, further ones hold the shape, three places the world.
    List<KnownDistance> distances;
    List<KnownPlace> places;
};

/// All that a solve is asked.
struct SolveOptions : SolveSettings {
    int width = 0;
    int height = 0;
    std::optional<Lens> lens;  ///< where the distortion is known or guessed
    double axisSigma = 0.005;  ///< widths
    bool zooms() const { return zoom.value_or(false); }

    /// Tracks with a larger error than this, in pixels, are set aside after the first full solve. 0: only those that
    /// contradict the rest.
    double trim_px = 0.0;

    /// An earlier solve to start from: its cameras and points are taken and adjusted with what has changed since
    /// (tracks added or tied, another lens, more frames), without a search. It must be near: a start that is wrong
    /// stays wrong.
    std::shared_ptr<const Solve> start;

    /// A tenth of the tracks is kept out of the adjustment and measured against it.
    bool holdOut = true;

    /// Fewest tracks a frame needs to be solved.
    int fewestTracks = 8;

    /// How much more a track placed by hand counts than a scattered one: its errors are multiplied by this.
    double byHandWeight = 2.0;
};

}  // namespace pinion
