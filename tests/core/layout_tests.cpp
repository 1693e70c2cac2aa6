#include <algorithm>
#include <catch2/catch.hpp>
#include <filesystem>
#include <fstream>
#include <regex>
#include <string>
#include <vector>

namespace {

namespace fs = std::filesystem;

/// The folders of a room in order; a file may include only what stands in its own folder or above it.
struct House {
    fs::path root;
    std::vector<std::string> order;
    bool isQtFree = false;
};

std::ptrdiff_t rank(const House& house, const std::string& folder) {
    return std::find(house.order.begin(), house.order.end(), folder) - house.order.begin();
}

int check(const House& house) {
    const std::regex include("#include \"([a-z]+)/");
    int files = 0;
    for (const auto& entry : fs::recursive_directory_iterator(house.root)) {
        if (entry.path().extension() != ".h" && entry.path().extension() != ".cpp") continue;
        const fs::path inside = fs::relative(entry.path(), house.root);
        // What stands at the root arranges everything.
        if (!inside.has_parent_path()) continue;
        ++files;
        const std::string folder = inside.begin()->string();
        INFO(entry.path());
        REQUIRE(rank(house, folder) < std::ptrdiff_t(house.order.size()));
        std::ifstream stream(entry.path());
        for (std::string line; std::getline(stream, line);) {
            if (house.isQtFree) CHECK(line.find("#include <Q") == std::string::npos);
            std::smatch match;
            if (!std::regex_search(line, match, include)) continue;
            const auto included = rank(house, match[1]);
            if (included == std::ptrdiff_t(house.order.size())) continue;  // another house's room
            INFO(line);
            CHECK(included <= rank(house, folder));
        }
    }
    return files;
}

}  // namespace

TEST_CASE("a folder of the core includes only folders above it, and no Qt") {
    CHECK(check({fs::path(PINION_SOURCE_DIR) / "core",
                 {"base", "picture", "plate", "lens", "motion", "matte", "track", "planar", "flow", "camera", "world",
                  "steady", "comp", "render", "shot", "exchange", "jobs"},
                 true}) > 100);
}

TEST_CASE("a folder of the window includes only folders above it") {
    CHECK(check({fs::path(PINION_SOURCE_DIR) / "app",
                 {"session", "widgets", "canvas", "sheet", "proof", "scene", "stages"}}) > 80);
}

TEST_CASE("a stage knows no other stage, and no line of the program is longer than 120 letters") {
    const std::regex include("#include \"stages/([a-z]+)/");
    const fs::path stages = fs::path(PINION_SOURCE_DIR) / "app/stages";
    for (const auto& entry : fs::recursive_directory_iterator(stages)) {
        const fs::path inside = fs::relative(entry.path(), stages);
        if (entry.is_directory() || !inside.has_parent_path()) continue;
        std::ifstream stream(entry.path());
        for (std::string line; std::getline(stream, line);) {
            std::smatch match;
            INFO(entry.path() << ": " << line);
            if (std::regex_search(line, match, include)) CHECK(match[1] == inside.begin()->string());
        }
    }
    const auto letters = [](const std::string& line) {
        return std::count_if(line.begin(), line.end(), [](char c) { return (c & 0xC0) != 0x80; });
    };
    for (const char* folder : {"core", "app", "cli", "demo", "bench", "tests"})
        for (const auto& entry : fs::recursive_directory_iterator(fs::path(PINION_SOURCE_DIR) / folder)) {
            if (entry.path().extension() != ".h" && entry.path().extension() != ".cpp") continue;
            std::ifstream stream(entry.path());
            int number = 0;
            for (std::string line; std::getline(stream, line);) {
                ++number;
                // Documents that a test holds as they are may be as long as they are.
                if (line.find("R\"(") != std::string::npos || line.find(")\"") != std::string::npos) continue;
                INFO(entry.path() << ":" << number);
                CHECK((letters(line) <= 120 || line.find("{\"") != std::string::npos));
            }
        }
}
