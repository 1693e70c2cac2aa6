#pragma once

#include "base/list.h"
#include "camera/solve.h"
#include "matte/matte.h"
#include "plate/plate.h"
#include "track/tracking.h"
#include "world/world.h"

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
    FrameRate fps;
    FrameRange frames;           ///< all frames of the plate
    FrameRange range;            ///< between the handles on the ruler
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
};

/// What the Camera card holds.
struct SolveSettings {
    double sensorWidth_mm = 36.0;
    Knowledge focal = Knowledge::unknown;
    double focal_mm = 35.0;
    double focalTrust_mm = 2.0;
    SolveOptions::Distortion distortion = SolveOptions::Distortion::unknown;
    std::optional<Lens> lens;
    std::optional<std::pair<int, int>> basePair;
};

enum class DeliverableKind { camera, tracks, stMaps };
enum class DeliverableFormat { usda, json, csv, exr };
enum class UpAxis { y, z };

/// One thing handed downstream.
struct Deliverable {
    std::string name;
    DeliverableKind kind = DeliverableKind::camera;
    DeliverableFormat format = DeliverableFormat::usda;
    std::string place;              ///< a file name, or a folder for ST maps; relative to the delivery folder
    UpAxis upAxis = UpAxis::y;
    std::uint64_t writtenKey = 0;   ///< `deliveryKey` when it was last written; 0: never
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
    std::uint64_t solvedKey = 0;    ///< `solveKey` of the shot that was solved
    World world;
    List<Deliverable> deliverables;
    std::string deliveryFolder;     ///< empty: beside the shot, in "delivery"
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
std::uint64_t deliveryKey(const Shot& shot, const Deliverable& deliverable);

SolveOptions solveOptionsOf(const Shot& shot);
ScatterOptions scatterOptionsOf(const Shot& shot, int startFrame);

/// The world of the shot's solve; the solve's own where the decisions cannot be met.
Orientation orientationOf(const Shot& shot);

enum class Stage { plate, tracks, camera, world, delivery };
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
