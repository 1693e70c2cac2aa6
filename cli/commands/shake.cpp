#include "commands/command.h"
#include "exchange/newshot.h"
#include "jobs/steadying.h"
#include "shot/edits/plateedits.h"
#include "exchange/transforms.h"
#include "steadying.h"

#include <CLI/CLI.hpp>
#include <algorithm>
#include <memory>
#include <nlohmann/json.hpp>

namespace pinion::cli {
namespace {

struct ShakeWords {
    PictureWords picture;
    std::string profile;
    double amount = 1.0, above = 0.0;
};

int take(const Console& console, const ShakeWords& w) {
    const auto plate = openFor(console, w.picture);
    if (!plate) return fail(plate.error());
    FrameCache frames(*plate, budget(console));
    auto shot = shotWithTracks(w.picture, (*plate)->facts(), frames);
    if (!shot) return fail(shot.error());
    if (const auto applied = applyRolling(w.picture, *shot); !applied) return fail(applied.error());
    const auto profile = runTakeShake(*shot, w.above);
    if (!profile) return fail(profile.error());
    if (const auto written = put(w.picture.out, shakeJson(*profile)); !written) return fail(written.error());
    say(console,
        {{"samples", profile->samples.size()},
         {"seconds", profile->seconds()},
         {"shift_rms", profile->shiftRms()},
         {"rotation_rms_degrees", profile->angleRms()},
         {"out", w.picture.out}},
        w.picture.out == "-"
            ? ""
            : fmt::format("{:.2f} s of shake, {:.2f} % of the width and {:.2f}° RMS: {}", profile->seconds(),
                          profile->shiftRms() * 100, profile->angleRms(), w.picture.out));
    return 0;
}

int lend(const Console& console, const ShakeWords& w) {
    const auto plate = openFor(console, w.picture, w.profile);
    if (!plate) return fail(plate.error());
    const auto profile = readShake(w.profile);
    if (!profile) return fail(profile.error());
    Shot shot = shotOf((*plate)->facts());
    const auto range = parseRange(w.picture.range, (*plate)->facts());
    if (!range) return fail(range.error());
    shot = withRange(shot, *range);
    shot.steady.shake = true;
    shot.steady.profile = std::make_shared<const ShakeProfile>(*profile);
    shot.steady.lending.position = amountOf(w.picture.position, w.amount);
    shot.steady.lending.rotation = amountOf(w.picture.rotation, w.amount);
    shot.steady.lending.scale = amountOf(w.picture.scale, w.amount);
    applyPictureWords(w.picture, shot.steady);
    FrameCache frames(*plate, budget(console));
    return render(console, w.picture, shot, frames,
                  {{"profile", profile->name}, {"profile_seconds", profile->seconds()}});
}

}  // namespace

Runner addShake(CLI::App& command) {
    const auto words = std::make_shared<ShakeWords>();
    ShakeWords& w = *words;
    command.require_subcommand(1);
    command.fallthrough();
    CLI::App* take = command.add_subcommand("take", "a shake profile from a plate");
    take->add_option("PLATE", w.picture.plate)->required();
    take->add_option("--out", w.picture.out, "profile.json")->required();
    take->add_option("--tracks", w.picture.tracks, "tracks.json; scattered otherwise");
    take->add_option("--features", w.picture.features, "features to scatter")->check(CLI::Range(8, 100000));
    take->add_option("--above", w.above, "only what is faster than this, in Hz; 0 all of it")
        ->check(CLI::NonNegativeNumber);
    take->add_option("--range", w.picture.range, "frames A-B; the whole plate by default");
    addRollingOption(*take, w.picture);
    CLI::App* lend = command.add_subcommand("lend", "a plate with a shake");
    lend->add_option("PLATE", w.picture.plate)->required();
    lend->add_option("--profile", w.profile, "profile.json")->required();
    lend->add_option("--amount", w.amount, "of all components; 1 as taken")->check(CLI::Range(0.0, 10.0));
    lend->add_option("--position", w.picture.position, "amount of the position alone")->check(CLI::Range(0.0, 10.0));
    lend->add_option("--rotation", w.picture.rotation, "amount of the rotation alone")->check(CLI::Range(0.0, 10.0));
    lend->add_option("--scale", w.picture.scale, "amount of the scale alone")->check(CLI::Range(0.0, 10.0));
    addPictureOptions(*lend, w.picture);
    return [words, take](const Console& console) {
        return take->parsed() ? cli::take(console, *words) : cli::lend(console, *words);
    };
}

}  // namespace pinion::cli
