// Shots as tracks, made up by seed, solved and held against their truth and against what is attainable.

#include "base/units.h"
#include "scenarios/crowdedshot.h"
#include "jobs/diagnosing.h"
#include "jobs/nextstep.h"
#include "scenarios/judge.h"
#include "shot/stages/camerastage.h"

#include <CLI/CLI.hpp>
#include <chrono>
#include <fmt/core.h>
#include <map>
#include <sys/resource.h>

using namespace pinion;
using namespace pinion::bench;

namespace {

/// Tracks on things that move, and how many of them were told apart as such; tracks that were and are on none.
struct ToldApart {
    int onMovers = 0, found = 0, beside = 0, bodies = 0;
};
ToldApart toldApart(const MadeShot& shot, const Solve& solve) {
    ToldApart result;
    for (std::size_t t = 0; t < shot.tracks.size(); ++t)
        result.onMovers += shot.truth[t].mover >= 0 && shot.tracks[t].samples.size() >= 12;
    for (const MovingTracks& mover : solve.movers) {
        std::map<int, int> of;
        for (const TrackId id : mover.tracks) ++of[shot.truth[std::size_t(id - 1)].mover];
        int most = -1;
        for (const auto& [which, count] : of)
            if (which >= 0 && (most < 0 || count > of[most])) most = which;
        ++result.bodies;
        for (const TrackId id : mover.tracks) {
            const bool isOn = most >= 0 && shot.truth[std::size_t(id - 1)].mover == most;
            result.found += isOn && shot.tracks[std::size_t(id - 1)].samples.size() >= 12;
            result.beside += !isOn;
        }
    }
    return result;
}

List<TrackId> longestOfScene(const MadeShot& shot, int count) {
    std::vector<std::size_t> order;
    for (std::size_t t = 0; t < shot.tracks.size(); ++t)
        if (shot.truth[t].good) order.push_back(t);
    std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
        return shot.tracks[a].samples.size() > shot.tracks[b].samples.size();
    });
    std::vector<TrackId> ids;
    for (std::size_t i = 0; i < std::min(order.size(), std::size_t(count)); ++i)
        ids.push_back(shot.tracks[order[i]].id);
    return List<TrackId>(std::move(ids));
}

double now() { return std::chrono::duration<double>(std::chrono::steady_clock::now().time_since_epoch()).count(); }

struct Totals {
    int shots = 0, good = 0, goodDoubted = 0, fair = 0, wrong = 0, refused = 0;
    SortedOut sorted;
    double seconds = 0;
    double focalRatios = 0, positionRatios = 0, pointRatios = 0, heldRatios = 0;
    int focalCount = 0, positionCount = 0, heldCount = 0;
    double heldWorst = 0;
};

/// The made shot with its solve, as an artist has it.
Shot shotOf(const MadeShot& made, const Solve& solve, Knowledge knowledge) {
    Shot shot;
    shot.plate.width = made.plan.width;
    shot.plate.height = made.plan.height;
    shot.plate.range = {1001, 1000 + made.plan.frames};
    shot.tracks = List<Track>(made.tracks);
    shot.solve = std::make_shared<const Solve>(solve);
    static_cast<SolveSettings&>(shot.solveSettings) = optionsFor(made, knowledge);
    shot.solvedKey = solveKey(shot);
    return shot;
}

/// What the card would say is next.
std::string nextOf(const Shot& shot) {
    const auto look = lookAtSolve(shot);
    return look ? nextStepOf(shot, *look).words : look.error().message;
}

/// The camera before and after what a solve is better off without was set aside, in words.
std::string weeded(const MadeShot& made, const Solve& solve, Knowledge knowledge) {
    const Shot shot = shotOf(made, solve, knowledge);
    const double before = now();
    const auto weeding = setAsideWhileItGains(shot);
    if (!weeding) return weeding.error().message;
    int wrong = 0;
    for (const TrackId track : weeding->aside) wrong += !made.truth[std::size_t(track - 1)].good;
    const Judgement was = judge(made, camerasOf(made, solve)), is = judge(made, camerasOf(made, weeding->solve));
    return fmt::format(
        "weeded: truth {:.3f} px, was {:.3f}; path {:.3f} %, was {:.3f}; held out {:.3f} px, was {:.3f}; "
        "{} aside, {} of them wrong, in {} steps; {:.1f} s",
        is.truth_px, was.truth_px, 100 * is.path, 100 * was.path, weeding->heldOutThen_px, weeding->heldOut_px,
        weeding->aside.size(), wrong, weeding->steps.size(), now() - before);
}

void print(const std::string& name, const Totals& t) {
    const auto share = [](int a, int b) { return b > 0 ? 100.0 * a / b : 0.0; };
    fmt::print("| {} | {} | {} | {} | {} | {} | {} | {:.1f} % | {:.1f} % | {:.2f} | {:.2f} | {:.3f} | {:.1f} |\n", name,
               t.shots, t.good, t.goodDoubted, t.fair, t.wrong, t.refused, share(t.sorted.wrongApart, t.sorted.wrong),
               share(t.sorted.goodApart, t.sorted.good), t.focalCount ? std::sqrt(t.focalRatios / t.focalCount) : 0.0,
               t.positionCount ? std::sqrt(t.positionRatios / t.positionCount) : 0.0,
               t.heldCount ? t.heldRatios / t.heldCount : 0.0, t.seconds / std::max(1, t.shots));
}

}  // namespace

int main(int argc, char** argv) {
    CLI::App app{"Solves made-up shots, given as tracks, and judges them against their truth."};
    std::vector<std::string> kinds{"handheld",     "flat", "long-lens", "wide",       "forward", "few",      "noisy",
                                   "short-tracks", "crop", "small",     "short-move", "far",     "pan-walk", "slide"};
    std::string seeds = "1-3", focal = "unknown";
    bool quiet = false, stages = false, crowded = false;
    bool fixed = false, weeds = false, tellsNext = false;
    int told = 0;
    app.add_option("--kinds", kinds, "kinds of shots")->delimiter(',');
    app.add_option("--seeds", seeds, "A-B");
    app.add_option("--focal", focal, "unknown, guessed or known")
        ->check(CLI::IsMember({"unknown", "guessed", "known"}));
    app.add_flag("--crowded", crowded, "the second generator: movers as long as the shot, reflections, foliage");
    app.add_flag("--fixed", fixed, "it is said that the lens does not zoom");
    app.add_option("--told", told, "so many tracks of the scene, the longest, are said to be of it");
    app.add_flag("--quiet", quiet, "only the table");
    app.add_flag("--stages", stages, "seconds of each stage");
    app.add_flag("--next", tellsNext, "what the Camera card would say is next");
    app.add_flag("--weed", weeds, "then sets aside while it gains, and judges the camera of what is left");
    CLI11_PARSE(app, argc, argv);
    if (crowded && app.count("--kinds") == 0) kinds = crowdKinds();
    int first = 1, last = 3;
    if (std::sscanf(seeds.c_str(), "%d-%d", &first, &last) == 1) last = first;
    const Knowledge knowledge = focal == "known"     ? Knowledge::known
                                : focal == "guessed" ? Knowledge::guessed
                                                     : Knowledge::unknown;
    std::map<std::string, Totals> totals;
    Totals all;
    for (const std::string& kind : kinds)
        for (int seed = first; seed <= last; ++seed) {
            const MadeShot shot =
                crowded ? make(drawCrowd(kind, unsigned(seed))) : make(drawPlan(kind, unsigned(seed)));
            const ShotPlan& plan = shot.plan;
            SolveOptions options = optionsFor(shot, knowledge);
            if (fixed) options.zoom = false;
            if (told > 0) options.sceneOf = longestOfScene(shot, told);
            std::string stage, stageText;
            double since = now();
            const double before = since;
            const auto solve = solveCamera(shot.tracks, options, Progress([&](double, const std::string& what) {
                                               if (what.empty() || what == stage) return;
                                               if (!stage.empty())
                                                   stageText += fmt::format("{} {:.2f}; ", stage, now() - since);
                                               stage = what;
                                               since = now();
                                           }));
            const double seconds = now() - before;
            const Judgement best = attainable(shot, options);
            std::string line = fmt::format("{} {}: {}/{} {:.0f} mm{}, {} frames, {:.1f} m, {} tracks: ", kind, seed,
                                           int(plan.scene), int(plan.move), plan.focal_mm,
                                           plan.zoomTo_mm > 0 ? fmt::format(" to {:.0f}", plan.zoomTo_mm) : "",
                                           plan.frames, plan.length, shot.tracks.size());
            for (Totals* t : {&totals[kind], &all}) {
                ++t->shots;
                t->seconds += seconds;
            }
            if (!solve) {
                for (Totals* t : {&totals[kind], &all}) ++t->refused;
                if (!quiet)
                    fmt::print("{}refused: {} (attainable {:.2f} px, path {:.2f} %)\n", line, solve.error().message,
                               best.truth_px, 100 * best.path);
                continue;
            }
            const Judgement own = judge(shot, camerasOf(shot, *solve));
            const bool doubtful = !solve->doubt.empty();
            // Points far and near lie right in the picture also when a turn and a zoom are read as a walk to and fro.
            const bool misread = plan.move == Move::nodal && solve->motion != CameraMotion::nodal;
            const Verdict verdict =
                misread ? (doubtful ? Verdict::fair : Verdict::wrong) : verdictOf(shot, own, best, doubtful);
            const SortedOut sorted = sortedOut(shot, *solve);
            const Suspected listed = suspected(shot, *solve);
            double positionRatio = 0;
            int positionCount = 0;
            if (own.positionErrors.size() == solve->frames.size())
                for (std::size_t i = 0; i < own.positionErrors.size(); ++i) {
                    const double variance = solve->frames[i].deviation.squaredNorm();
                    if (variance > 0) {
                        positionRatio += own.positionErrors[i] * own.positionErrors[i] / variance;
                        ++positionCount;
                    }
                }
            // Of a zoom a frame each, else the one.
            double focalRatio = 0;
            if (solve->zoom) {
                for (const SolvedFrame& frame : solve->frames)
                    if (frame.focalDeviation_px > 0)
                        focalRatio += std::pow((frame.focal_px - shot.focals_px[std::size_t(frame.frame - 1001)]) /
                                                   frame.focalDeviation_px,
                                               2) /
                                      double(solve->frames.size());
            } else if (solve->focalDeviation_mm && *solve->focalDeviation_mm > 0) {
                focalRatio = std::pow(own.focal * plan.focal_mm / *solve->focalDeviation_mm, 2);
            }
            for (Totals* t : {&totals[kind], &all}) {
                t->good += verdict == Verdict::good;
                t->goodDoubted += verdict == Verdict::good && doubtful;
                t->fair += verdict == Verdict::fair;
                t->wrong += verdict == Verdict::wrong;
                t->sorted.wrong += sorted.wrong;
                t->sorted.wrongApart += sorted.wrongApart;
                t->sorted.good += sorted.good;
                t->sorted.goodApart += sorted.goodApart;
                if (focalRatio > 0) {
                    t->focalRatios += focalRatio;
                    ++t->focalCount;
                }
                if (positionCount > 0) {
                    t->positionRatios += positionRatio / positionCount;
                    ++t->positionCount;
                }
                if (solve->heldOutRms_px > 0) {
                    t->heldRatios += solve->heldOutRms_px / own.seen_px;
                    ++t->heldCount;
                }
            }
            if (!quiet) {
                const ToldApart apart = toldApart(shot, *solve);
                fmt::print(
                    "{}{} {}: truth {:.2f} px (attainable {:.2f}), path {:.2f} % ({:.2f}), focal {:.2f} % ({:.2f}, ± "
                    "{:.2f}, ratio {:.2f}); rms {:.2f}, held {:.2f} of {:.2f}; {} of {} frames; wrong {}/{}, good lost "
                    "{}/{}; suspects {}/{}, good {}/{}; movers {} of {} in {}, {} beside; ± ratio {:.2f}; {:.1f} "
                    "s{}{}{}\n",
                    line, toString(verdict), toString(solve->motion), own.truth_px, best.truth_px, 100 * own.path,
                    100 * best.path, 100 * own.focal, 100 * best.focal,
                    100 * solve->focalDeviation_mm.value_or(0) / plan.focal_mm, std::sqrt(focalRatio), solve->rms_px,
                    solve->heldOutRms_px, own.seen_px, own.frames, plan.frames, sorted.wrongApart, sorted.wrong,
                    sorted.goodApart, sorted.good, listed.wrongListed, listed.wrong, listed.goodListed, listed.good,
                    apart.found, apart.onMovers, apart.bodies, apart.beside,
                    positionCount > 0 ? std::sqrt(positionRatio / positionCount) : 0.0, seconds,
                    solve->readout.isRolling() || shot.readout.isRolling()
                        ? fmt::format("; readout {:.3f} ({:.3f}) ± {:.3f}", solve->readout.share, shot.readout.share,
                                      solve->readoutDeviation)
                        : "",
                    doubtful ? " DOUBT: " + solve->doubt : "",
                    stages ? "\n    " + solve->reason + "\n    " + stageText : "");
                if (tellsNext) fmt::print("    next: {}\n", nextOf(shotOf(shot, *solve, knowledge)));
                if (weeds) fmt::print("    {}\n", weeded(shot, *solve, knowledge));
                std::fflush(stdout);
            }
        }
    fmt::print(
        "\n| kind | shots | good | of them doubted | fair | wrong | refused | wrong tracks apart | good tracks lost | "
        "focal error / ± | place error / ± | held out / true | seconds "
        "|\n|---|---|---|---|---|---|---|---|---|---|---|---|---|\n");
    for (const auto& [kind, t] : totals) print(kind, t);
    print("all", all);
    rusage usage{};
    getrusage(RUSAGE_SELF, &usage);
    fmt::print("peak memory {:.0f} MiB\n", double(usage.ru_maxrss) / 1024);
    return 0;
}
