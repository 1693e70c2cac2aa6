#include "trackwords.h"
#include "base/files.h"

#include "exchange/formats.h"
#include "figures.h"

#include <CLI/CLI.hpp>
#include <filesystem>
#include <nlohmann/json.hpp>

namespace pinion::cli {

using nlohmann::json;
namespace fs = std::filesystem;

void addTrackOptions(CLI::App& command, TrackWords& words) {
    command
        .add_option("--motion", words.motion,
                    "how the pattern may change: translation, similarity, affine, perspective")
        ->check(CLI::IsMember({"translation", "similarity", "affine", "perspective"}));
    command.add_option("--pattern", words.pattern, "side of the pattern area in pixels")->check(CLI::Range(5, 101));
    command.add_option("--search", words.search, "side of the search area in pixels")->check(CLI::Range(7, 1001));
    command.add_option("--range", words.range, "frames A-B; the whole plate by default");
    command.add_option("--channel", words.channel, "luma, red, green, blue")
        ->check(CLI::IsMember({"luma", "red", "green", "blue"}));
    command.add_option("--drift-limit", words.driftLimit, "least score, 0 to 1; a track stops below it")
        ->check(CLI::Range(0.0, 1.0));
    command.add_option("--pre-filter", words.preFilter, "for analysis only: none, denoise, local-contrast")
        ->check(CLI::IsMember({"none", "denoise", "local-contrast"}));
}

Expected<void> checkAreas(const TrackWords& words) {
    if (words.search < words.pattern)
        return failure(Fault::input, "--search {}: is smaller than the pattern of {}", words.search, words.pattern);
    return {};
}

int finishTracks(const Console& console, const Expected<TrackingResult>& result, const PlateFacts& facts,
                 const std::string& out) {
    if (!result) return fail(result.error());
    if (result->stopped) return fail({Fault::stopped, ""});
    const TrackFile file{facts.width, facts.height, facts.fps, result->tracks, facts.times};
    const bool csv = loweredEnding(out) == ".csv";
    if (const auto written = put(out, csv ? tracksCsv(file) : tracksJson(file)); !written) return fail(written.error());
    json figures = tracksFigures(*result);
    figures["out"] = out;
    say(console, figures,
        out == "-" ? ""
                   : fmt::format("{} tracks, median length {} frames: {}", result->tracks.size(),
                                 figures["median_length"].get<int>(), out));
    if (!result->unreadable.empty())
        std::fprintf(stderr, "left out, missing or damaged: %s\n", frameRanges(result->unreadable).c_str());
    return 0;
}

}  // namespace pinion::cli
