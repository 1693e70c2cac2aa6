#include "benches.h"
#include "planar/planartracking.h"
#include "planar/surface.h"
#include "planes/planecase.h"
#include "planes/rivals.h"
#include "planes/roundcase.h"

#include <CLI/CLI.hpp>
#include <filesystem>
#include <fmt/core.h>
#include <fstream>

using namespace pinion;
using namespace pinion::planes;

namespace {

struct Tally {
    bench::Errors errors, clear;
    int frames = 0, lost = 0, off = 0, wrong = 0, cases = 0;
    double seconds = 0;
};

/// Frames made once and kept in memory, or read from the folder where an earlier run left them.
class KeptPlate final : public Plate {
public:
    KeptPlate(const PlaneCase& c, const Plate& made, const std::filesystem::path& folder) {
        facts_ = made.facts();
        const std::size_t size = std::size_t(c.width) * std::size_t(c.height);
        const auto file = folder / fmt::format("{}.grey", c.seed);
        frames_.resize(size * std::size_t(c.frames));
        if (!folder.empty())
            if (std::ifstream in(file, std::ios::binary); in.read(frames_.data(), std::streamsize(frames_.size())))
                return;
        for (int frame = 0; frame < c.frames; ++frame) {
            const PicturePtr picture = *made.read(frame);
            for (std::size_t i = 0; i < size; ++i) frames_[std::size_t(frame) * size + i] = char(picture->bytes[3 * i]);
        }
        if (!folder.empty())
            std::ofstream(file, std::ios::binary).write(frames_.data(), std::streamsize(frames_.size()));
    }
    Expected<PicturePtr> read(int frame) const override {
        const std::size_t size = std::size_t(facts_.width) * std::size_t(facts_.height);
        auto picture = std::make_shared<Picture>(Picture{
            facts_.width, facts_.height, Picture::Depth::bits8, false, std::vector<std::uint8_t>(size * 3), {}});
        for (std::size_t i = 0; i < 3 * size; ++i)
            picture->bytes[i] = std::uint8_t(frames_[std::size_t(frame) * size + i / 3]);
        return PicturePtr(picture);
    }

private:
    std::vector<char> frames_;
};

std::filesystem::path keptFolder;

std::shared_ptr<const Plate> keptPlateOf(const PlaneCase& c) {
    const auto made = plateOf(c);
    return made ? std::make_shared<KeptPlate>(c, *made, keptFolder) : nullptr;
}

/// What visible share a plane has to have to be asked for.
constexpr double kAsked = 0.35;

/// A rival's errors on the frames on which enough of the plane is seen.
struct RivalTally {
    bench::Errors errors;
    int asked = 0, lost = 0, off = 0;
    double seconds = 0;
    void add(const PlaneCase& c, const Rival& rival) {
        seconds += rival.seconds;
        for (int frame = 0; frame < c.frames; ++frame) {
            if (visibleAt(c, frame) < kAsked) continue;
            ++asked;
            const auto found = rival.corners.find(frame);
            if (found == rival.corners.end()) {
                ++lost;
                continue;
            }
            const double error = apart(found->second, cornersAt(c, frame));
            errors.values.push_back(error);
            off += error > 2;
        }
    }
    void print(const char* name) {
        bench::printErrors(name, errors);
        fmt::print("    {} of {} frames lost, {} off by more than 2 px, {:.1f} ms a frame\n", lost, asked, off,
                   1000 * seconds / std::max(1, asked));
    }
};

void judge(const PlaneCase& c, Tally& tally, bool tell) {
    const auto plate = keptPlateOf(c);
    if (!plate) {
        fmt::print("the photographs are not there: Debian's opencv-doc\n");
        return;
    }
    FrameCache frames(plate);
    for (int frame = 0; frame < c.frames; ++frame) (void)frames.get(frame);
    const PlanarTrack plane = planeOf(c);
    const double before = bench::now();
    const auto result = trackPlanes(frames, {plane}, plane.referenceFrame, {0, c.frames - 1}, Direction::both);
    const double seconds = bench::now() - before;
    ++tally.cases;
    if (!result) {
        fmt::print("seed {:4}: {}: {}\n", c.seed, describe(c), result.error().message);
        return;
    }
    tally.seconds += seconds;
    const PlanarTrack& tracked = result->planes.front();
    bench::Errors errors;
    int asked = 0, lost = 0, wrong = 0, off = 0;
    for (int frame = 0; frame < c.frames; ++frame) {
        const double visible = visibleAt(c, frame);
        const PlaneSample* sample = sampleAt(tracked, frame);
        asked += visible >= kAsked;
        if (!sample) {
            lost += visible >= kAsked;
            continue;
        }
        const double error = apart(trackedCorners(c, *sample), cornersAt(c, frame));
        errors.values.push_back(error);
        tally.errors.values.push_back(error);
        if (visible > 0.95) tally.clear.values.push_back(error);
        // Wrong, and nothing said of it.
        const double allowed = std::max(2.0, 4.0 * double(sample->deviation_px));
        wrong += error > allowed && sample->fit > 0.95F;
        off += error > 2;
    }
    tally.frames += asked;
    tally.lost += lost;
    tally.wrong += wrong;
    tally.off += off;
    if (tell || lost > 0 || off > 0)
        fmt::print(
            "seed {:4}: median {:.3f} 90 % {:.3f} worst {:6.2f} px, lost {:2}, off {:2}, wrong {:2}, {:5.1f} ms  ({}; "
            "{}) {} / "
            "{}\n",
            c.seed, errors.at(0.5), errors.at(0.9), errors.at(1), lost, off, wrong, 1000 * seconds / c.frames,
            describe(c), toString(result->motions.front()), toString(tracked.startReason), toString(tracked.endReason));
}

/// Cylinders: their turn, and the corners of their surface that face the camera.
struct RoundTally {
    bench::Errors corners, turns;
    int frames = 0, lost = 0, off = 0, wrong = 0;
    double seconds = 0;
};

void judge(const RoundCase& c, RoundTally& tally, bool tell) {
    const auto plate = plateOf(c);
    if (!plate) return;
    FrameCache frames(plate);
    for (int frame = 0; frame < c.frames; ++frame) (void)frames.get(frame);
    const double before = bench::now();
    const auto result = trackPlanes(frames, {planeOf(c)}, (c.frames - 1) / 2, {0, c.frames - 1}, Direction::both,
                                    Progress{}, {}, {}, c.focalGuess != 1);
    tally.seconds += bench::now() - before;
    tally.frames += c.frames;
    if (!result) {
        fmt::print("seed {:4}: {}: {}\n", c.seed, describe(c), result.error().message);
        tally.lost += c.frames;
        return;
    }
    const PlanarTrack& tracked = result->planes.front();
    bench::Errors corners, turns;
    int lost = 0, off = 0, wrong = 0;
    for (int frame = 0; frame < c.frames; ++frame) {
        const auto quad = surfaceAt(tracked, frame);
        const PlaneSample* sample = sampleAt(tracked, frame);
        if (!quad || !sample) {
            ++lost;
            continue;
        }
        turns.values.push_back(std::abs(*turnAt(tracked, frame) - turnAt(c, frame)));
        double worst = 0;
        for (std::size_t i = 0; i < 4; ++i) {
            double cosine = 0;
            const Eigen::Vector2d truth = placeAt(c, frame, roundCorners(c)[i].x(), roundCorners(c)[i].y(), &cosine);
            if (cosine < 0.25) continue;
            corners.values.push_back(((*quad)[i] - truth).norm());
            worst = std::max(worst, corners.values.back());
        }
        off += worst > 2;
        wrong += worst > std::max(2.0, 4.0 * double(sample->deviation_px)) && sample->fit > 0.95F;
    }
    for (const auto& [from, to] : {std::pair{&corners, &tally.corners}, {&turns, &tally.turns}})
        to->values.insert(to->values.end(), from->values.begin(), from->values.end());
    tally.lost += lost;
    tally.off += off;
    tally.wrong += wrong;
    if (tell || lost > 0 || off > 0)
        fmt::print(
            "seed {:4}: corners median {:.3f} worst {:5.2f} px, turn worst {:.3f} deg, lost {:2}, off {:2}, wrong "
            "{:2} ({}) {} / {}\n",
            c.seed, corners.at(0.5), corners.at(1), turns.at(1), lost, off, wrong, describe(c),
            toString(tracked.startReason), toString(tracked.endReason));
}

}  // namespace

int main(int argc, char** argv) {
    CLI::App app{"Planes of photographs moved by known homographies."};
    unsigned seed = 1, count = 60;
    bool tell = false, rivals = false, round = false;
    int only = -1;
    app.add_option("--seed", seed, "the first");
    app.add_option("--count", count, "how many");
    app.add_option("--show", only, "frame by frame, of one seed");
    app.add_flag("--rivals", rivals, "beside OpenCV's ECC and a chain of feature homographies");
    app.add_flag("--round", round, "cylinders");
    app.add_flag("--tell", tell, "a line for each case");
    app.add_option("--keep", keptFolder, "a folder that keeps the frames made, for the next run");
    CLI11_PARSE(app, argc, argv);
    if (round) {
        RoundTally tally;
        for (unsigned i = 0; i < count; ++i) judge(roundCase(seed + i), tally, tell);
        bench::printErrors("corners that face the camera", tally.corners);
        fmt::print("  turn: median {:.3f}, 95 % {:.3f}, worst {:.3f} degrees\n", tally.turns.at(0.5),
                   tally.turns.at(0.95), tally.turns.at(1));
        fmt::print(
            "{} frames: {} lost, {} off by more than 2 px, {} of them with a good fit and beyond 4 deviations; "
            "{:.1f} ms a frame\n",
            tally.frames, tally.lost, tally.off, tally.wrong, 1000 * tally.seconds / std::max(1, tally.frames));
        return 0;
    }
    if (only >= 0) {
        const PlaneCase c = planeCase(unsigned(only));
        FrameCache frames(keptPlateOf(c));
        const PlanarTrack plane = planeOf(c);
        const auto result = trackPlanes(frames, {plane}, plane.referenceFrame, {0, c.frames - 1}, Direction::both);
        fmt::print("{}\n", describe(c));
        if (result)
            for (const PlaneSample& s : result->planes[0].samples)
                fmt::print("{:3} error {:7.3f} seen {:.2f} (truth {:.2f}) fit {:.3f} +- {:.3f} {}\n", s.frame,
                           apart(trackedCorners(c, s), cornersAt(c, s.frame)), s.seen, visibleAt(c, s.frame), s.fit,
                           s.deviation_px, s.renewed ? "renewed" : "");
        return 0;
    }
    if (rivals) {
        // All three on the same frames, decoded; ours by one thread as they are.
        RivalTally ours, ecc, chain;
        for (unsigned i = 0; i < count; ++i) {
            const PlaneCase c = planeCase(seed + i);
            const auto plate = keptPlateOf(c);
            if (!plate) return 1;
            FrameCache frames(plate);
            const PlanarTrack plane = planeOf(c);
            Rival mine;
            const double before = bench::now();
            const auto result = trackPlanes(frames, {plane}, plane.referenceFrame, {0, c.frames - 1}, Direction::both);
            mine.seconds = bench::now() - before;
            if (result)
                for (const PlaneSample& s : result->planes[0].samples) mine.corners[s.frame] = trackedCorners(c, s);
            ours.add(c, mine);
            ecc.add(c, byEcc(c, *plate));
            chain.add(c, byChain(c, *plate));
        }
        ours.print("ours, reading frames included");
        ecc.print("ECC");
        chain.print("features, chained");
        return 0;
    }
    Tally tally;
    for (unsigned i = 0; i < count; ++i) judge(planeCase(seed + i), tally, tell);
    bench::printErrors("corners", tally.errors);
    bench::printErrors("corners, in the clear", tally.clear);
    fmt::print(
        "{} cases, {} frames: {} lost ({:.2f} %), {} off by more than 2 px, {} of them with a good fit and beyond 4 "
        "deviations; {:.1f} ms a frame\n",
        tally.cases, tally.frames, tally.lost, 100.0 * tally.lost / std::max(1, tally.frames), tally.off, tally.wrong,
        1000 * tally.seconds / std::max<double>(1, double(tally.cases) * 41));
    return 0;
}
