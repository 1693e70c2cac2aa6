#include "base/files.h"
#include "commands/command.h"
#include "exchange/formats.h"
#include "exchange/newshot.h"
#include "jobs/proposing.h"
#include "outputs.h"
#include "plates.h"
#include "shot/edits/trackedits.h"
#include "matte/riding.h"
#include "shot/carriers/carriers.h"

#include <CLI/CLI.hpp>
#include <memory>
#include <nlohmann/json.hpp>

namespace pinion::cli {
namespace {

struct ProposeWords {
    std::string plate, tracks, out;
};

/// Its path is no track of a file: it is taken in.
Matte withoutRide(const MoverProposal& proposal) {
    if (!proposal.matte.ride) return proposal.matte;
    return ridden({proposal.matte}, carriersOf(shotOf(proposal)), proposal.frames)
        .value_or(std::vector<Matte>{proposal.matte})
        .front();
}

int proposeCommand(const Console& console, const ProposeWords& w) {
    const auto plate = openPlate(console, w.plate);
    if (!plate) return fail(plate.error());
    const PlateFacts& facts = (*plate)->facts();
    if (const auto free = checkOutput("--out", w.out, {w.plate, facts.path.string(), w.tracks}); !free)
        return fail(free.error());
    const auto tracks = tracksFor(w.tracks, facts);
    if (!tracks) return fail(tracks.error());
    const Shot shot = withScattered(shotOf(facts), *tracks);
    FrameCache frames(*plate, budget(console));
    const auto proposals = runPropose(shot, frames, consoleProgress("Looking for what moves"));
    if (!proposals) return fail(proposals.error());
    std::vector<Matte> mattes;
    nlohmann::json listed = nlohmann::json::array();
    std::string words;
    for (const MoverProposal& one : *proposals) {
        mattes.push_back(withoutRide(one));
        listed.push_back({{"name", one.matte.name},
                          {"reason", one.reason},
                          {"share", one.share},
                          {"keys", one.matte.keys.size()},
                          {"first", one.frames.first},
                          {"last", one.frames.last}});
        words += fmt::format("\n{}: {}, frames {}-{}", one.matte.name, one.reason, one.frames.first, one.frames.last);
    }
    if (const auto written = put(w.out, mattesJson(mattes)); !written) return fail(written.error());
    say(console, {{"proposals", listed}, {"out", w.out}},
        proposals->empty() ? "nothing moves by itself" : fmt::format("{}: {}", w.out, words.substr(1)));
    return 0;
}

}  // namespace

Runner addPropose(CLI::App& command) {
    const auto words = std::make_shared<ProposeWords>();
    ProposeWords& w = *words;
    command.add_option("PLATE", w.plate)->required();
    command.add_option("--tracks", w.tracks, "tracks.json of a scatter")->required();
    command.add_option("--out", w.out, "mattes.json")->required();
    return [words](const Console& console) { return proposeCommand(console, *words); };
}

}  // namespace pinion::cli
