#include "commands/command.h"
#include "deliveries.h"
#include "jobs/delivering.h"
#include "shot/file/shotfile.h"

#include <CLI/CLI.hpp>
#include <filesystem>
#include <memory>
#include <nlohmann/json.hpp>

namespace pinion::cli {
namespace {

using nlohmann::json;
namespace fs = std::filesystem;

struct DeliverWords {
    std::string shot, only, folder;
    bool outside = false;
};

int deliverCommand(const Console& console, const DeliverWords& w) {
    const auto opened = loadShot(w.shot);
    if (!opened) return fail(opened.error());
    if (const auto free = checkDeliveries(*opened, w.folder, w.shot, w.outside, w.only); !free)
        return fail(free.error());
    const Progress progress = consoleProgress("Delivering");  // between two files Ctrl-C ends it
    json written = json::array();
    std::string text;
    bool any = false;
    for (const Deliverable& deliverable : opened->deliverables) {
        if (!w.only.empty() && deliverable.name != w.only) continue;
        any = true;
        if (progress.stopped()) return fail({Fault::stopped, ""});
        const auto report = deliver(*opened, deliverable, w.folder);
        if (!report) return fail(report.error());
        for (const fs::path& file : report->files) {
            written.push_back({{"name", report->name}, {"path", file.string()}});
            text += (text.empty() ? "" : "\n") + file.string();
        }
    }
    if (!any) {
        std::string names;
        for (const Deliverable& deliverable : opened->deliverables)
            names += (names.empty() ? "" : ", ") + deliverable.name;
        return fail({Fault::input, w.only.empty() ? fmt::format("{}: lists no deliverable", w.shot)
                                                  : fmt::format("--only {}: the shot has {}", w.only, names)});
    }
    if (const auto note = writeDeliveryNote(*opened, w.folder); !note) return fail(note.error());
    say(console, {{"files", written}}, text);
    return 0;
}

}  // namespace

Runner addDeliver(CLI::App& command) {
    const auto words = std::make_shared<DeliverWords>();
    DeliverWords& w = *words;
    command.add_option("SHOT", w.shot)->required();
    command.add_option("--only", w.only, "the name of one deliverable");
    command.add_option("--out-dir", w.folder)->required();
    command.add_flag("--allow-outside", w.outside, "write deliveries whose place lies outside the folder too");
    return [words](const Console& console) { return deliverCommand(console, *words); };
}

}  // namespace pinion::cli
