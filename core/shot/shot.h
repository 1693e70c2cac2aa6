#pragma once

#include "base/list.h"
#include "camera/solve.h"
#include "comp/render.h"
#include "matte/matte.h"
#include "plate/plate.h"
#include "steady/shake.h"
#include "track/tracking.h"
#include "world/world.h"

#include <cstdint>
#include <filesystem>
#include <functional>
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
};

/// Carries the motion of its tracks for whatever hangs on it.
struct Locator {
    std::string name;
    List<TrackId> tracks;
    int referenceFrame = 0;
    MotionKind kind = MotionKind::position;
};

/// What the Steady card holds: the picture held still or eased, and a shake lent to it.
struct SteadySettings {
    bool steady = false;
    enum class Source { allTracks, chosen };
    Source source = Source::allTracks;
    List<TrackId> tracks;                          ///< the chosen ones
    bool cornerPin = false;                        ///< four chosen tracks as a corner pin
    PictureModel model = PictureModel::automatic;  ///< of all tracks; of chosen ones what their number allows
    int referenceFrame = 0;                        ///< 0: the first frame of the range
    SteadyOptions options;
    bool shake = false;
    std::shared_ptr<const ShakeProfile> profile;
    ShakeLending lending;
    ResampleFilter filter = ResampleFilter::bicubic;
    EdgeMode edges = EdgeMode::empty;
    std::string renderPlace;  ///< where the frames go, relative to the delivery folder

    bool changesPicture() const { return steady || (shake && profile); }
};

/// What the Camera card holds.
struct SolveSettings {
    double sensorWidth_mm = 36.0;
    Knowledge focal = Knowledge::unknown;
    double focal_mm = 35.0;
    double focalTrust_mm = 2.0;
    SolveOptions::Distortion distortion = SolveOptions::Distortion::unknown;
    std::optional<Lens> lens;
    SolveOptions::Axis axis = SolveOptions::Axis::automatic;
    std::optional<CameraMotion> motion;  ///< none: found from the tracks
    std::optional<bool> zoom;            ///< none: found from the tracks
    double squeeze = 1.0;
    std::optional<std::pair<int, int>> basePair;
    List<KnownDistance> distances;  ///< measured on the set
    List<KnownPlace> places;
};

enum class DeliverableKind { camera, tracks, stMaps, transforms, cornerPin };
enum class DeliverableFormat { usda, json, csv, exr };
enum class UpAxis { y, z };

/// One thing handed downstream.
struct Deliverable {
    std::string name;
    DeliverableKind kind = DeliverableKind::camera;
    DeliverableFormat format = DeliverableFormat::usda;
    std::string place;  ///< a file name, or a folder for ST maps; relative to the delivery folder
    UpAxis upAxis = UpAxis::y;
    std::string locator;           ///< whose motion, for transforms and corner pins
    TransformOptions transform;    ///< also the origin of tracks
    std::uint64_t writtenKey = 0;  ///< `deliveryKey` when it was last written; 0: never
};

/// Everything an artist has decided about one shot. A value: copy it freely, the parts are shared until changed.
struct Shot {
    std::string name;
    PlateRef plate;
    ScatterSettings scatterSettings;
    SolveSettings solveSettings;
    List<Matte> mattes;
    List<Track> tracks;
    TrackId nextTrack = 1;
    std::shared_ptr<const Solve> solve;
    std::uint64_t solvedKey = 0;  ///< `solveKey` of the shot that was solved
    World world;
    List<Locator> locators;
    SteadySettings steady;
    List<Deliverable> deliverables;
    std::string deliveryFolder;  ///< empty: beside the shot, in "delivery"
};

/// A shot of an opened plate, with the usual deliverables listed.
Shot shotOf(const PlateFacts& facts);

/// The same shot on another opening of its plate.
Shot withPlate(const Shot& shot, const PlateFacts& facts);
PlateRef plateRef(const PlateFacts& facts);

// Edits: each gives the shot after it.
Shot withRange(const Shot& shot, const FrameRange& range);
Shot withTrackAdded(const Shot& shot, int frame, const Eigen::Vector2d& at, TrackId* id = nullptr);
/// Places the track on `frame` by hand: a tie.
Shot withTrackMoved(const Shot& shot, TrackId track, int frame, const Eigen::Vector2d& to);
/// Takes a tie away; the frame is open until it is tracked again. The last sample of a track stays.
Shot withTieRemoved(const Shot& shot, TrackId track, int frame);
/// The frame becomes a tie where it is, from which the pattern is taken anew.
Shot withReferenceRenewed(const Shot& shot, TrackId track, int frame);
/// Changes the choices of tracks; locked ones stay as they are unless `evenLocked`.
Shot withTracksEdited(const Shot& shot, const std::vector<TrackId>& tracks, const std::function<void(Track&)>& edit,
                      bool evenLocked = false);
Shot withTracksDuplicated(const Shot& shot, const std::vector<TrackId>& tracks, std::vector<TrackId>* copies = nullptr);
/// The second track's frames go into the first, and it goes; the first one's frames win.
Shot withTracksJoined(const Shot& shot, TrackId first, TrackId second);
/// Only the frames of `range` stay, one at least.
Shot withTracksTrimmed(const Shot& shot, const std::vector<TrackId>& tracks, const FrameRange& range);
/// Read from a file: they get names and ids of their own.
Shot withTracksImported(const Shot& shot, const std::vector<Track>& tracks, std::vector<TrackId>* ids = nullptr);
/// A locator on the tracks, with the deliverables that hand it on.
Shot withLocatorAdded(const Shot& shot, const std::vector<TrackId>& tracks, int referenceFrame, MotionKind kind);
/// Locked tracks stay.
Shot withTracksRemoved(const Shot& shot, const std::vector<TrackId>& tracks);
Shot withSetAside(const Shot& shot, const std::vector<TrackId>& tracks, bool aside);
Shot withTrackRenamed(const Shot& shot, TrackId track, const std::string& name);
/// Scattered tracks take the place of the earlier scattered ones; those placed by hand stay.
Shot withScattered(const Shot& shot, const std::vector<Track>& tracks);
/// Tracks, found by their ids, take on new samples.
Shot withTracked(const Shot& shot, const std::vector<Track>& tracks);
Shot withSolve(const Shot& shot, const Solve& solve, std::uint64_t solvedKey);
Shot withWorld(const Shot& shot, const World& world);

const Track* findTrack(const Shot& shot, TrackId track);
const SolvedTrack* findSolved(const Shot& shot, TrackId track);

/// How many tracks that are not set aside each frame of the range has.
std::vector<int> tracksPerFrame(const Shot& shot);

/// Fingerprints of what a solve, and of what a delivery, depends on: when they differ, the result is stale.
std::uint64_t solveKey(const Shot& shot);
std::uint64_t steadyKey(const Shot& shot);
std::uint64_t deliveryKey(const Shot& shot, const Deliverable& deliverable);

SolveOptions solveOptionsOf(const Shot& shot);
const Locator* findLocator(const Shot& shot, const std::string& name);
/// The reference frame of the steadying, within the range.
int steadyReference(const Shot& shot);
Expected<PlateMotion> locatorMotion(const Shot& shot, const Locator& locator);
/// The motion that the Steady card takes out: of all tracks that are not set aside, or of the chosen ones.
Expected<PlateMotion> steadyMotion(const Shot& shot);

/// What becomes of the picture: steadied, shaken, or one and then the other, in one map a frame.
struct PicturePlan {
    std::vector<FrameMap> frames;
    double zoom = 1.0;
    bool fills = true;
    std::string note;                ///< the blur that will stay visible, a profile that was looped or cut
    PlateMotion motion;              ///< of the steadying, if any
    std::vector<ShakeSample> shake;  ///< as lent, if any

    const FrameMap* at(int frame) const;
};
Expected<PicturePlan> picturePlan(const Shot& shot);

ScatterOptions scatterOptionsOf(const Shot& shot, int startFrame);

/// The world of the shot's solve; the solve's own where the decisions cannot be met.
Orientation orientationOf(const Shot& shot);

enum class Stage { plate, tracks, camera, world, steady, delivery };
enum class StageState { empty, done, stale, attention };

/// What the docket says of a stage: its state, its one number, and what is wrong, in words.
struct StageReport {
    Stage stage;
    StageState state = StageState::empty;
    std::string number;
    std::string message;
};

/// Derived from the shot, every time. `missingFrames` come from the opened plate.
std::vector<StageReport> stagesOf(const Shot& shot, const std::vector<int>& missingFrames = {});

constexpr int kTrackFloor = 8;  ///< fewest tracks a frame should have

}  // namespace pinion
