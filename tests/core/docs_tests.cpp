// What the documents list is what there is: a folder, a command, a kind or a setting that is added has to be told of.

#include "base/files.h"
#include "exchange/deliverables.h"
#include "shot/carriers/carriers.h"
#include "shot/layers/layers.h"
#include "shot/solvesettings.h"

#include <catch2/catch.hpp>
#include <filesystem>
#include <regex>
#include <set>

using namespace pinion;
namespace fs = std::filesystem;

namespace {

const fs::path kSource = PINION_SOURCE_DIR;

std::string document(const char* name) {
    const auto text = readFile(kSource / "docs" / name);
    REQUIRE(text);
    return *text;
}

std::set<std::string> foldersOf(const fs::path& room) {
    std::set<std::string> folders;
    for (const auto& entry : fs::directory_iterator(room))
        if (entry.is_directory()) folders.insert(entry.path().filename().string());
    return folders;
}

}  // namespace

TEST_CASE("the architecture tells of every folder, and the guide of every command") {
    const std::string architecture = document("architecture.md"), guide = document("guide.md");
    for (const char* room : {"core", "app"})
        for (const std::string& folder : foldersOf(kSource / room)) {
            INFO(room << "/" << folder);
            CHECK(architecture.find(std::string(room) + "/" + folder) != std::string::npos);
        }
    // The table's own lines: "info", what a plate is.
    const auto table = readFile(kSource / "cli/commands/commands.cpp");
    REQUIRE(table);
    const std::regex line("\\{\"([a-z]+)\", \"");
    int commands = 0;
    for (auto at = std::sregex_iterator(table->begin(), table->end(), line); at != std::sregex_iterator(); ++at) {
        ++commands;
        const std::string name = (*at)[1];
        INFO(name);
        CHECK((guide.find("`" + name + "`") != std::string::npos || guide.find("`" + name + " ") != std::string::npos));
    }
    CHECK(commands > 12);
}

TEST_CASE("the formats tell of every kind and every setting that a shot's file holds") {
    const std::string formats = document("formats.md"), guide = document("guide.md");
    const auto told = [](const std::string& text, const std::string& word) {
        INFO(word);
        CHECK(text.find(word) != std::string::npos);
    };
    for (const SolveSetting& setting : solveSettings()) told(formats, std::string("`") + setting.key + "`");
    for (const CarrierKind& kind : carrierKinds()) told(formats, kind.word);
    for (const LayerKind& kind : layerKinds()) told(formats, std::string("`") + kind.word + "`");
    for (const char* kind : kDeliverableKinds) told(guide + formats, kind);
}
