#pragma once

#include "base/list.h"
#include "camera/result.h"
#include "comp/choices.h"
#include "comp/insertchoices.h"
#include "lens/chart.h"
#include "lens/lines.h"
#include "matte/matte.h"
#include "planar/planartrack.h"
#include "plate/plate.h"
#include "shot/locator.h"
#include "shot/object.h"
#include "steady/shake.h"
#include "track/tracking.h"
#include "world/scenewriting.h"
#include "world/standin.h"
#include "world/world.h"

#include <array>
#include <cstdint>
#include <filesystem>
#include <memory>
#include <optional>
#include <string>
#include <vector>

namespace pinion {

/// The plate of a shot, and the part of it that is worked on.
struct PlateRef {
    std::filesystem::path path;  ///< empty: none opened yet
    int width = 0;
    int height = 0;
    double pixelAspect = 1;  ///< width of a pixel to its height
    FrameRate fps;
    FrameTimes times;   ///< of a plate whose rate varies
    FrameRange frames;  ///< all frames of the plate
    FrameRange range;   ///< between the handles on the ruler
    bool isOpen() const { return !path.empty(); }
};

/// What the Tracks card holds.
struct ScatterSettings {
    int features = 500;
    double leastDistance_px = 16.0;
    double threshold = 0.01;
    int pattern_px = 21;
    int search_px = 61;
    MotionModel motion = MotionModel::affine;
    double driftLimit = 0.8;
    Channel channel = Channel::luma;
    PreFilter preFilter = PreFilter::none;

    bool operator==(const ScatterSettings&) const = default;
};

/// What the Steady card holds: the picture held still or eased, and a shake lent to it.
struct SteadySettings {
    bool steady = false;
    Ride on{"picture", {}};                        ///< what is held still; its reference frame and `as` do not count
    List<TrackId> tracks;                          ///< that were chosen, also while something else is held
    bool cornerPin = false;                        ///< four chosen tracks as a corner pin
    bool squareUp = false;                         ///< ... what lies between them upright, filling the picture
    PictureModel model = PictureModel::automatic;  ///< of all tracks; of chosen ones what their number allows
    bool straightRows = true;                      ///< of a rolling shutter whose readout is known
    int referenceFrame = 0;                        ///< 0: the first frame of the range
    SteadyOptions options;
    bool shake = false;
    std::shared_ptr<const ShakeProfile> profile;
    ShakeLending lending;
    ResampleFilter filter = ResampleFilter::bicubic;
    EdgeMode edges = EdgeMode::empty;
    std::string renderPath;  ///< where the frames go, relative to the delivery folder

    bool changesPicture() const { return steady || (shake && profile); }
};

/// A line along something straight in life, as it was clicked, and the edge that was found under it.
struct LensLine {
    int frame = 0;
    List<Eigen::Vector2d> clicks;  ///< pixels of the plate; on the edge where there is one
    List<Eigen::Vector2d> edge;    ///< empty where none was found, or it was not to be looked for

    /// What the fit takes: the edge where there is one, else the clicks.
    const List<Eigen::Vector2d>& places() const { return edge.isEmpty() ? clicks : edge; }
};

/// The pair of ST maps that the lens was taken from.
struct LensMaps {
    std::string undistorting, redistorting;  ///< their files
    double returns_px = 0;                   ///< the farthest that a place comes back beside itself
    bool half = false;                       ///< of half floats
};

/// What the Lens card holds.
struct LensCard {
    /// Where the lens comes from.
    enum class Source { none, typed, lines, chart, solve, file, maps };
    Source source = Source::none;
    std::optional<Lens> lens;  ///< of the plate's size; none: the plate is taken as it is
    LensDeviations deviations;

    List<LensLine> lines;
    bool snap = true;
    LineTerms terms = LineTerms::automatic;
    LineAxis axis = LineAxis::automatic;

    Chart chart;
    List<ChartView> views;  ///< of the chart pictures that were taken
    LensMaps maps;          ///< while the lens is from maps

    BendFilter filter = BendFilter::bicubic;
    Overscan overscan;
};

/// What can be handed on; `exchange/deliverables.h` says how each is written. The words are those of the shot's file.
enum class DeliverableKind { camera, tracks, stMaps, transforms, cornerPin, lens, mattes, objects, scene };
inline constexpr std::array kDeliverableKinds{"camera", "tracks", "st maps", "transforms", "corner pin",
                                              "lens",   "mattes", "objects", "scene"};
enum class DeliverableFormat { usda, json, csv, exr, yaml, png, tiff, svg, glb, ply };
inline constexpr std::array kDeliverableFormats{"usda", "json", "csv", "exr", "yaml",
                                                "png",  "tiff", "svg", "glb", "ply"};
enum class UpAxis { y, z };

/// One thing handed downstream.
struct Deliverable {
    std::string name;
    DeliverableKind kind = DeliverableKind::camera;
    DeliverableFormat format = DeliverableFormat::usda;
    std::string place;  ///< a file name, or a folder for ST maps; relative to the delivery folder
    UpAxis upAxis = UpAxis::y;
    LocatorId locator = 0;         ///< whose motion, for transforms and corner pins
    TransformOptions transform;    ///< also the origin of tracks
    bool overscan = false;         ///< a camera for the undistorted plate with its overscan, which needs no lens
    std::uint64_t writtenKey = 0;  ///< `deliveryKey` when it was last written; 0: never
};

using SolveId = std::uint32_t;

/// A solve that is kept beside the one that counts: made before it, or chosen away from.
struct KeptSolve {
    SolveId id = 0;
    std::shared_ptr<const Solve> solve;
    std::uint64_t key = 0;   ///< `solveKey` of the shot that was solved
    SolveSettings settings;  ///< it was asked with
};

/// Everything an artist has decided about one shot. A value: copy it freely, the parts are shared until changed.
struct Shot {
    std::string name;
    PlateRef plate;
    ScatterSettings scatterSettings;
    LensCard lens;
    SolveSettings solveSettings;
    List<Matte> mattes;
    MatteId nextMatte = 1;
    List<Track> tracks;
    TrackId nextTrack = 1;
    List<PlanarTrack> planes;
    PlaneId nextPlane = 1;
    std::shared_ptr<const Solve> solve;  ///< the one that counts
    std::uint64_t solvedKey = 0;         ///< `solveKey` of the shot that was solved
    SolveId solveId = 0;                 ///< 0: none was solved
    SolveSettings solvedWith;            ///< what it was asked with; `solveSettings` is what the next is asked
    List<KeptSolve> keptSolves;          ///< the others, the last one kept at the end
    SolveId nextSolve = 1;
    World world;
    SceneLook scene;  ///< what stands in it
    SceneWriting sceneWriting;
    StandInId nextStandIn = 1;
    List<ShotObject> objects;
    ObjectId nextObject = 1;
    List<Locator> locators;
    LocatorId nextLocator = 1;
    SteadySettings steady;
    List<Clip> clips;
    ClipId nextClip = 1;
    List<Insert> inserts;  ///< the lowest first
    InsertId nextInsert = 1;
    std::string
        insertsPath;  ///< where they are rendered to, relative to the delivery folder; empty: by the shot's name
    bool insertsAlone = false;  ///< rendered by themselves, with their alpha
    List<Deliverable> deliverables;
    std::string deliveryFolder;  ///< empty: beside the shot, in "delivery"
};

PlateRef plateRef(const PlateFacts& facts);

const Track* findTrack(const Shot& shot, TrackId track);
const SolvedTrack* findSolved(const Shot& shot, TrackId track);
const PlanarTrack* findPlane(const Shot& shot, PlaneId plane);
const Clip* findClip(const Shot& shot, ClipId clip);
const Insert* findInsert(const Shot& shot, InsertId insert);
const Locator* findLocator(const Shot& shot, LocatorId locator);
const Matte* findMatte(const Shot& shot, MatteId matte);
const ShotObject* findObject(const Shot& shot, ObjectId object);
/// Those that are still there.
std::vector<Track> tracksOf(const Shot& shot, const List<TrackId>& ids);

}  // namespace pinion
