#include "shot/stages/steadystage.h"

#include "comp/steadied.h"
#include "shot/ingredients.h"
#include "shot/carriers/carriers.h"

#include <algorithm>

namespace pinion {

std::uint64_t steadyKey(const Shot& shot) {
    Fingerprint print;
    const SteadySettings& s = shot.steady;
    const SteadyOptions& o = s.options;
    if (s.model != PictureModel::automatic) print.add(110).add(int(s.model));
    if (s.squareUp) print.add(112);
    print.add(int(s.steady))
        .add(int(s.cornerPin))
        .add(steadyReference(shot))
        .add(shot.plate.range.first)
        .add(shot.plate.range.last);
    print.add(int(o.mode))
        .add(o.position)
        .add(o.rotation)
        .add(o.scale)
        .add(int(o.smoother))
        .add(o.smooth_frames)
        .add(o.leeway)
        .add(int(o.fit));
    print.add(o.cropZoom).add(o.cropCentre.x()).add(o.cropCentre.y());
    print.add(int(s.shake))
        .add(s.lending.position)
        .add(s.lending.rotation)
        .add(s.lending.scale)
        .add(int(s.lending.fit));
    if (s.shake && s.profile) {
        print.add(std::uint64_t(s.profile->samples.size()));
        for (const ShakeSample& sample : s.profile->samples)
            print.add(sample.x).add(sample.y).add(sample.angleDegrees).add(sample.scale);
    }
    print.add(shot.plate.width).add(shot.plate.height).add(shot.plate.fps.perSecond());
    if (s.steady) addRide(print, shot, steadyRide(shot));
    if (const Readout readout = steadyReadout(shot); s.steady && readout.isRolling())
        print.add(116).add(readout.share).add(int(readout.columns));
    return print.value();
}

int steadyReference(const Shot& shot) {
    const int wanted = shot.steady.referenceFrame;
    return shot.plate.range.holds(wanted) ? wanted : shot.plate.range.first;
}

Expected<PlateMotion> locatorMotion(const Shot& shot, const Locator& locator) {
    auto motion = carrierOf(shot, locator.on)->motionOrProblem();
    if (!motion) return failure(motion.error().fault, "locator {}: {}", locator.name, motion.error().message);
    return motion;
}

Ride steadyRide(const Shot& shot) {
    const SteadySettings& s = shot.steady;
    Ride ride = s.on;
    ride.referenceFrame = steadyReference(shot);
    if (s.model == PictureModel::position) ride.as = MotionKind::position;
    if (s.model == PictureModel::similarity) ride.as = MotionKind::similarity;
    if (s.model == PictureModel::perspective) ride.as = MotionKind::perspective;
    // Of chosen tracks what their number allows.
    if (const std::size_t tracks = tracksCarrying(shot, ride).size(); tracks > 0) {
        if (s.cornerPin) ride.as = MotionKind::cornerPin;
        else if (tracks == 1) ride.as = MotionKind::position;
        else if (!ride.as || (ride.as == MotionKind::perspective && tracks < 5)) ride.as = MotionKind::similarity;
    }
    return ride;
}

Readout steadyReadout(const Shot& shot) {
    const SteadySettings& s = shot.steady;
    if (!s.straightRows) return {};
    const CarrierKind* kind = carrierKind(s.on.on);
    if (!kind || !(kind->carriesFrame || !tracksCarrying(shot, s.on).empty())) return {};
    if (shot.solve && shot.solve->readout.isRolling()) return shot.solve->readout;
    const SolveSettings& asked = shot.solveSettings;
    if (asked.reading != SolveSettings::Reading::known) return {};
    return {asked.readoutShare, asked.readsColumns()};
}

Expected<PlateMotion> steadyMotion(const Shot& shot) {
    const SteadySettings& s = shot.steady;
    const CarrierKind* kind = carrierKind(s.on.on);
    if (kind && !kind->nameOf && shot.tracks.isEmpty())
        return failure(Fault::outcome, "there are no tracks to steady on; scatter features, or place one and track it");
    if (kind && kind->nameOf && s.on.ids.empty() && s.on.names.empty())
        return failure(Fault::outcome,
                       "no {} is chosen to steady on; take selected tracks with \"Take selected\", or choose a plane",
                       kind->thing);
    if (const std::string lack = lackOf(shot, s.on); !lack.empty())
        return failure(Fault::outcome, "the steadied picture {}; choose what else is held still", lack);
    if (const Readout readout = steadyReadout(shot); readout.isRolling()) {
        Shot straight = shot;
        straight.tracks = List<Track>(atMiddleRow(shot.tracks.vector(), readout, shot.plate.width, shot.plate.height));
        return carrierOf(straight, steadyRide(straight))->motionOrProblem();
    }
    return carrierOf(shot, steadyRide(shot))->motionOrProblem();
}

std::vector<SheetMap> PicturePlan::sheets(ResampleFilter filter, EdgeMode edges) const {
    return steadiedSheets(frames, rows, filter, edges);
}

const FrameMap* PicturePlan::at(int frame) const {
    const auto found =
        std::lower_bound(frames.begin(), frames.end(), frame, [](const FrameMap& m, int f) { return m.frame < f; });
    return found != frames.end() && found->frame == frame ? &*found : nullptr;
}

namespace {

/// Zooms until no border shows.
Expected<void> fill(PicturePlan& plan, int width, int height) {
    const auto zoom = fillZoom(plan.frames, width, height, plan.rows ? plan.rows->reach_px() : 0);
    if (!zoom) return failure(Fault::outcome, "no zoom fills the frame; lower the strength or the shake");
    plan.zoom = *zoom;
    applyZoom(plan.frames, plan.zoom, {width / 2.0, height / 2.0});
    plan.fills = true;
    return {};
}

}  // namespace

Expected<PicturePlan> picturePlan(const Shot& shot) {
    const SteadySettings& s = shot.steady;
    const int width = shot.plate.width, height = shot.plate.height;
    const bool lends = s.shake && s.profile;
    PicturePlan plan;
    if (s.steady) {
        auto motion = steadyMotion(shot);
        if (!motion) return tl::unexpected(motion.error());
        if (const Readout readout = steadyReadout(shot); readout.isRolling())
            plan.rows = std::make_shared<const RowWarp>(*motion, readout, width, height);
        SteadyOptions options = s.options;
        // All together is zoomed once, by what it needs.
        if ((lends || plan.rows) && options.fit == SteadyOptions::Fit::fill) options.fit = SteadyOptions::Fit::none;
        const auto steady = planSteady(*motion, width, height, options);
        if (!steady) return tl::unexpected(steady.error());
        plan.frames = steady->frames;
        plan.zoom = steady->zoom;
        plan.fills = steady->fills;
        plan.note = blurNote(*steady);
        if (s.squareUp && motion->corners.size() == 4) {
            plan.frames = squaredUp(*motion, width, height);
            plan.zoom = 1;
        } else if (plan.rows && !lends && s.options.fit == SteadyOptions::Fit::fill) {
            if (auto filled = fill(plan, width, height); !filled) return tl::unexpected(filled.error());
        }
        plan.motion = std::move(*motion);
        // What the maps read inside may lie outside by its rows.
        if (plan.rows && plan.fills)
            plan.fills = fillZoom(plan.frames, width, height, plan.rows->reach_px()).value_or(2) < 1 + 1e-6;
    }
    if (lends) {
        ShakeLending lending = s.lending;
        if (s.steady) lending.fit = SteadyOptions::Fit::none;
        const auto shake = lendShake(*s.profile, shot.plate.range, shot.plate.fps, width, height, lending);
        if (!shake) return tl::unexpected(shake.error());
        plan.shake = shake->samples;
        if (!s.steady) {
            plan.frames = shake->frames;
            plan.zoom = shake->zoom;
            plan.fills = lending.fit == SteadyOptions::Fit::fill;
        } else {
            std::vector<FrameMap> both;
            for (const FrameMap& map : shake->frames)
                if (const FrameMap* steady = plan.at(map.frame))
                    both.push_back({map.frame, steady->sourceFromOutput * map.sourceFromOutput});
            plan.frames = std::move(both);
            if (s.options.fit == SteadyOptions::Fit::fill)
                if (auto filled = fill(plan, width, height); !filled) return tl::unexpected(filled.error());
        }
        if (shake->looped)
            plan.note +=
                fmt::format("{}the shake of {:.1f} s is looped", plan.note.empty() ? "" : "; ", s.profile->seconds());
        if (shake->cut)
            plan.note += fmt::format("{}the first part of a shake of {:.1f} s is used", plan.note.empty() ? "" : "; ",
                                     s.profile->seconds());
    }
    if (plan.frames.empty())
        return failure(Fault::outcome, "nothing is steadied and no shake is lent; turn one of them on");
    return plan;
}

StageReport steadyReport(const Shot& shot) {
    StageReport report{StageState::empty, "—", ""};
    if (shot.steady.changesPicture()) {
        report.state = StageState::done;
        report.number =
            shot.steady.steady ? shot.steady.options.mode == SteadyOptions::Mode::hold ? "hold" : "ease" : "";
        if (shot.steady.shake && shot.steady.profile)
            report.number += (report.number.empty() ? "shake of " : " · shake of ") + shot.steady.profile->name;
        if (const std::string lack = shot.steady.steady ? lackOf(shot, shot.steady.on) : std::string(); !lack.empty()) {
            report.state = StageState::attention;
            report.message = "The steadied picture " + lack + ". Choose what else is held still.";
        }
    }
    return report;
}

}  // namespace pinion
