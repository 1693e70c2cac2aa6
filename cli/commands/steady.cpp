#include "commands/command.h"
#include "exchange/newshot.h"
#include "exchange/transforms.h"
#include "jobs/steadying.h"
#include "shot/carriers/carriers.h"
#include "shot/edits/plateedits.h"
#include "steadying.h"

#include <CLI/CLI.hpp>
#include <algorithm>
#include <memory>
#include <optional>
#include <nlohmann/json.hpp>

namespace pinion::cli {
namespace {

struct SteadyWords {
    PictureWords picture;
    std::string motion = "auto", mode = "hold", smoother = "gaussian";
    std::vector<std::string> names;
    bool cornerPin = false, squareUp = false;
    double strength = 1.0, smooth = 12, leeway = 0.05;
    std::optional<int> reference;
};

/// The tracks that are named, or all of fewer than three.
Expected<void> chooseTracks(const SteadyWords& w, Shot& shot) {
    SteadySettings& s = shot.steady;
    if (!w.names.empty() || shot.tracks.size() < 3) {
        std::vector<TrackId> chosen;
        for (const std::string& name : w.names) {
            const auto found =
                std::find_if(shot.tracks.begin(), shot.tracks.end(), [&](const Track& t) { return t.name == name; });
            if (found == shot.tracks.end())
                return failure(Fault::input, "--names {}: {} has no such track", name, w.picture.tracks);
            chosen.push_back(found->id);
        }
        if (w.names.empty())
            for (const Track& track : shot.tracks) chosen.push_back(track.id);
        s.tracks = List<TrackId>(chosen);
        s.on = rideOnTracks(chosen);
    }
    return {};
}

Expected<void> applyWords(const SteadyWords& w, Shot& shot) {
    SteadySettings& s = shot.steady;
    s.steady = true;
    if (w.reference && !shot.plate.range.holds(*w.reference))
        return failure(Fault::input, "--reference {}: lies outside the frames {}-{}", *w.reference,
                       shot.plate.range.first, shot.plate.range.last);
    s.referenceFrame = w.reference.value_or(shot.plate.range.first);
    s.options.mode = w.mode == "hold" ? SteadyOptions::Mode::hold : SteadyOptions::Mode::ease;
    s.options.position = amountOf(w.picture.position, w.strength);
    s.options.rotation = amountOf(w.picture.rotation, w.strength);
    s.options.scale = amountOf(w.picture.scale, w.strength);
    s.options.smoother = w.smoother == "l1" ? SteadyOptions::Smoother::l1 : SteadyOptions::Smoother::gaussian;
    s.options.smooth_frames = w.smooth;
    s.options.leeway = w.leeway;
    applyPictureWords(w.picture, s);
    s.cornerPin = w.cornerPin || w.squareUp;
    s.squareUp = w.squareUp;
    s.model = w.motion == "position"      ? PictureModel::position
              : w.motion == "similarity"  ? PictureModel::similarity
              : w.motion == "perspective" ? PictureModel::perspective
                                          : PictureModel::automatic;
    if (auto taken = applyRolling(w.picture, shot); !taken) return taken;
    return chooseTracks(w, shot);
}

int steadyCommand(const Console& console, const SteadyWords& w) {
    const auto plate = openFor(console, w.picture);
    if (!plate) return fail(plate.error());
    FrameCache frames(*plate, budget(console));
    auto shot = shotWithTracks(w.picture, (*plate)->facts(), frames);
    if (!shot) return fail(shot.error());
    if (const auto applied = applyWords(w, *shot); !applied) return fail(applied.error());
    return render(console, w.picture, *shot, frames, {{"mode", w.mode}});
}

}  // namespace

Runner addSteady(CLI::App& command) {
    const auto words = std::make_shared<SteadyWords>();
    SteadyWords& w = *words;
    const auto share = CLI::Range(0.0, 1.0);
    command.add_option("PLATE", w.picture.plate)->required();
    command
        .add_option("--tracks", w.picture.tracks,
                    "tracks.json or .csv; all of them agree on the picture's motion, unless --names chooses")
        ->required();
    command.add_option("--mode", w.mode, "hold or ease")->check(CLI::IsMember({"hold", "ease"}));
    addPictureOptions(command, w.picture);
    addRollingOption(command, w.picture);
    command.add_option("--strength", w.strength, "of all components, 0 to 1")->check(share);
    command.add_option("--position", w.picture.position, "strength of the position alone")->check(share);
    command.add_option("--rotation", w.picture.rotation, "strength of the rotation alone")->check(share);
    command.add_option("--scale", w.picture.scale, "strength of the scale alone")->check(share);
    command
        .add_option("--names", w.names, "steady on these tracks alone: one position, two and more rotation and scale")
        ->delimiter(',');
    command
        .add_option("--motion", w.motion,
                    "what the picture's motion may be: auto (the least that the tracks support), position, similarity, "
                    "perspective")
        ->check(CLI::IsMember({"auto", "position", "similarity", "perspective"}));
    command.add_flag("--corner-pin", w.cornerPin, "four named tracks as a corner pin");
    command.add_flag("--square-up", w.squareUp, "four named tracks: what lies between them upright");
    command.add_option("--reference", w.reference, "the frame that is held; the first by default");
    command.add_option("--smoother", w.smoother, "of ease: gaussian or l1")->check(CLI::IsMember({"gaussian", "l1"}));
    command.add_option("--smooth", w.smooth, "standard deviation of the gaussian, in frames")
        ->check(CLI::Range(0.1, 1000.0));
    command.add_option("--leeway", w.leeway, "how far l1 may leave the path, share of the width")
        ->check(CLI::Range(0.001, 0.5));
    command.add_option("--put-back", w.picture.putBack,
                       "the frames that the same words gave out, changed elsewhere: put back over the plate");
    command
        .add_option("--by", w.picture.putBackBy,
                    "what of them is put back: where they differ from what was given out; by their alpha; or all of it "
                    "is a matte (as-matte)")
        ->check(CLI::IsMember({"difference", "alpha", "as-matte"}));
    command.add_option("--put-back-matte", w.picture.putBackMatte,
                       "pictures of a matte, drawn on the held frames: what it covers is put back");
    command.add_option("--transforms", w.picture.transforms, "also write the motion taken out, .json or .csv");
    return [words](const Console& console) { return steadyCommand(console, *words); };
}

}  // namespace pinion::cli
