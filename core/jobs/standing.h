#pragma once

#include "base/fingerprint.h"
#include "base/progress.h"
#include "comp/render.h"
#include "plate/framecache.h"
#include "render/scenerender.h"
#include "world/scenewriting.h"

#include <filesystem>
#include <string>
#include <vector>

namespace pinion {

struct StandOptions {
    SceneManner manner = SceneManner::over;
    std::string name;               ///< of the shot, for a review
    int samples = 64;               ///< rays through a pixel where an edge passes
    int quality = 16;               ///< of a video
    std::vector<ScenePass> passes;  ///< of the frame's middle, not blurred
    double shutter = 0;             ///< frames over which motion blurs, 0 to 1
    bool isAlone() const { return manner == SceneManner::alone || manner == SceneManner::undistorted; }
};

/// What a card is made of.
struct CardFile {
    Clip clip;
    std::optional<ColourKey> key;  ///< of a flat backing; none where the clip has an alpha of its own
};
/// Fails for a file that shows no pictures, with what to do.
Expected<CardFile> readCard(const std::filesystem::path& path);
/// The stand-in shows them. The first ones make it as wide as they are, and of a card a flat backing is keyed out;
/// others in their place leave width and key as an artist has set them.
StandIn withPictures(StandIn standIn, const CardFile& file);

/// When the files were written that stand-ins show: replaced, they make another render.
void addFilesOf(Fingerprint& print, const SceneLook& look, ArtShelf& shelf);

struct StandReport {
    RenderReport render;
    int kept = 0;               ///< frames that an earlier run had written and this one left as they are
    std::vector<int> unsolved;  ///< frames without a camera: the plate as it is
    std::vector<std::string> problems;
};

/// The scene over the plate's frames, seen by the solved camera in the oriented world, written to `pattern`. A sequence
/// that was stopped goes on where it ended as long as nothing has changed since. Fails when
/// no frame of the range has a camera, when the camera is for another size, when nothing stands in the scene, and for
/// what cannot go together: passes and an undistorted scene are of the scene alone, passes are EXR's, and rows that are
/// read one after the other have no undistorted place.
Expected<StandReport> runStand(FrameCache& frames, const FrameRange& range, const Solve& solve,
                               const Orientation& orientation, const SceneLook& look,
                               const std::filesystem::path& pattern, const StandOptions& options = {},
                               const Progress& progress = Progress{});

/// How the plate's surface about a stand-in's foot goes against the foot: what a solve, the ground or the lens is off
/// by where it stands. 0 when it stands still.
struct FootSlide {
    int frame = 0;
    Eigen::Vector2d slide_px{0, 0};  ///< of the plate: where the surface went, less where the foot went
    double score = 0;                ///< of the surface found again, -1 to 1
};
struct FootProof {
    int referenceFrame = 0;
    std::vector<FootSlide> frames;  ///< by rising frame; the reference is not among them
    int unseen = 0;                 ///< frames looked at on which it is out of the picture, covered, or not found
    double rms_px() const;
    const FootSlide& worst() const;  ///< of at least one frame
};

/// Takes the surface at the foot on `reference` as a pattern and finds it again on about `count` frames of the range,
/// turned and scaled as the floor there says, so that only a slide is left to be found. Fails where the foot is not
/// seen on the reference, where its surface has no texture, and where it is found again nowhere.
Expected<FootProof> runFootProof(FrameCache& frames, const FrameRange& range, const Solve& solve,
                                 const Orientation& orientation, const Stance& stance, int reference, int count = 40,
                                 const Progress& progress = Progress{});

}  // namespace pinion
