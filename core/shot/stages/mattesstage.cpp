#include "shot/stages/mattesstage.h"

#include "base/parallel.h"
#include "matte/riding.h"
#include "matte/sequence.h"
#include "shot/carriers/carriers.h"

#include <algorithm>
#include <fmt/format.h>
#include <memory>
#include <set>

namespace pinion {
namespace {

/// What is wrong with a shape by itself, in words; empty when nothing is.
std::string troubleOf(const Matte& matte, int width, int height) {
    bool seen = matte.pictures != nullptr, hasArea = seen;
    for (const Matte::Key& key : matte.keys) {
        const Polygon outline = flattened(key);
        hasArea = hasArea || areaOf(outline) >= 1;
        const auto isInside = [&](const Eigen::Vector2d& p) {
            return p.x() > 0 && p.y() > 0 && p.x() < width && p.y() < height;
        };
        seen = seen || std::any_of(outline.begin(), outline.end(), isInside) ||
               contains(outline, {width / 2.0, height / 2.0});
    }
    if (!hasArea) return "has no area";
    if (!seen && !matte.ride) return "lies wholly outside the plate";
    if (matte.keys.size() <= 50)
        for (const Matte::Key& key : matte.keys)
            if (key.polygon.size() <= 500 && crossesItself(key.polygon))
                return fmt::format("crosses itself on frame {}: where it does so it is open", key.frame);
    return {};
}

/// Of all shapes; kept with the list, since it is asked for at every edit.
const std::vector<std::string>& troublesOf(const Shot& shot) {
    struct Troubles {
        std::vector<std::string> words;
    };
    return shot.mattes
        .derived<Troubles>([&](const std::vector<Matte>& mattes) {
            Troubles troubles;
            for (const Matte& matte : mattes)
                troubles.words.push_back(troubleOf(matte, shot.plate.width, shot.plate.height));
            return troubles;
        })
        .words;
}

/// The mattes that exclude cover all of the frame, at every place of a grid.
bool coversAll(const std::vector<Matte>& mattes, const PlateRef& plate) {
    const ExcludedArea area(mattes, plate.range.first);
    for (int y = 0; y < 9; ++y)
        for (int x = 0; x < 16; ++x)
            if (!area.holds({(x + 0.5) * plate.width / 16, (y + 0.5) * plate.height / 9})) return false;
    return true;
}

}  // namespace

std::vector<Matte> mattesOf(const Shot& shot, const std::optional<FrameRange>& range, std::vector<std::string>* notes) {
    std::vector<std::string> own;
    // With notes it does not fail.
    return ridden(shot.mattes.vector(), carriersOf(shot), range.value_or(shot.plate.range), notes ? notes : &own)
        .value_or(std::vector<Matte>{});
}

StageReport mattesReport(const Shot& shot) {
    StageReport report{StageState::empty, "none", ""};
    if (shot.mattes.isEmpty()) return report;
    std::size_t keys = 0;
    for (const Matte& matte : shot.mattes) keys += matte.keys.size();
    report.state = StageState::done;
    report.number = fmt::format("{} shape{} · {} keyframe{}", shot.mattes.size(), shot.mattes.size() == 1 ? "" : "s",
                                keys, keys == 1 ? "" : "s");
    const auto attention = [&](std::string words) {
        if (report.state == StageState::attention) return;
        report.state = StageState::attention;
        report.message = std::move(words);
    };
    for (const std::string& trouble :
         pictureTroubles(shot.mattes.vector(), shot.plate.range, shot.plate.width, shot.plate.height))
        attention(trouble + ".");
    bool waits = false;
    const std::vector<std::string>& troubles = troublesOf(shot);
    for (std::size_t i = 0; i < shot.mattes.size(); ++i) {
        const Matte& matte = shot.mattes[i];
        if (!troubles[i].empty()) attention(fmt::format("{}: {}.", matte.name, troubles[i]));
        if (!matte.ride) continue;
        const auto carrier = quickCarrierOf(shot, *matte.ride);
        waits = waits || !carrier;
        if (carrier && !carrier->problem().empty())
            attention(fmt::format("{}: {}. It stays as it was drawn; let it ride on another track, or part it.",
                                  matte.name, carrier->problem()));
        if (carrier)
            if (const std::string note = gapNote(matte, *carrier); !note.empty())
                attention(fmt::format("{}: {}.", matte.name, note));
    }
    if (!waits && shot.plate.width > 0) {
        std::vector<std::string> notes;
        const FrameRange first{shot.plate.range.first, shot.plate.range.first};
        if (coversAll(mattesOf(shot, first, &notes), shot.plate))
            attention("The mattes cover all of the plate: nothing is left to track. Take one away, or turn it round.");
    }
    return report;
}

std::vector<CoveredTrack> tracksInMattes(const Shot& shot) {
    if (shot.mattes.isEmpty()) return {};
    const std::vector<Matte> mattes = mattesOf(shot);
    std::set<TrackId> carrying;
    for (const Matte& matte : shot.mattes)
        if (matte.ride)
            for (const TrackId id : tracksCarrying(shot, *matte.ride)) carrying.insert(id);
    const FrameRange& range = shot.plate.range;
    std::vector<CoveredTrack> covered;
    std::vector<std::size_t> asked;
    for (std::size_t i = 0; i < shot.tracks.size(); ++i) {
        const Track& track = shot.tracks[i];
        if (!track.setAside && !carrying.contains(track.id)) asked.push_back(i);
    }
    std::vector<std::unique_ptr<ExcludedArea>> areas{std::size_t(std::max(0, range.count()))};
    parallelFor(areas.size(),
                [&](std::size_t i) { areas[i] = std::make_unique<ExcludedArea>(mattes, range.first + int(i)); });
    std::vector<CoveredTrack> found(asked.size());
    parallelFor(asked.size(), [&](std::size_t i) {
        const Track& track = shot.tracks[asked[i]];
        found[i].track = track.id;
        for (const Sample& sample : track.samples)
            if (!sample.aside && range.holds(sample.frame) &&
                areas[std::size_t(sample.frame - range.first)]->holds(sample.wanted()))
                found[i].frames.push_back(sample.frame);
    });
    for (CoveredTrack& one : found)
        if (!one.frames.empty()) covered.push_back(std::move(one));
    return covered;
}

}  // namespace pinion
