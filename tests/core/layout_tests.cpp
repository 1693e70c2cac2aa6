#include <catch2/catch.hpp>
#include <filesystem>
#include <fstream>
#include <regex>
#include <string>
#include <vector>

TEST_CASE("a folder of the core includes only folders above it, and no Qt") {
    const std::vector<std::string> order{"base",   "picture", "plate",  "lens", "matte", "track",    "planar", "flow",
                                         "camera", "world",   "steady", "comp", "shot",  "exchange", "jobs"};
    const auto rank = [&](const std::string& folder) {
        return std::find(order.begin(), order.end(), folder) - order.begin();
    };
    const std::regex include("#include \"([a-z]+)/");
    const std::filesystem::path core = std::filesystem::path(PINION_SOURCE_DIR) / "core";
    int files = 0;
    for (const auto& entry : std::filesystem::recursive_directory_iterator(core)) {
        if (entry.path().extension() != ".h" && entry.path().extension() != ".cpp") continue;
        ++files;
        const std::string folder = std::filesystem::relative(entry.path(), core).begin()->string();
        INFO(entry.path());
        REQUIRE(rank(folder) < long(order.size()));
        std::ifstream stream(entry.path());
        for (std::string line; std::getline(stream, line);) {
            CHECK(line.find("#include <Q") == std::string::npos);
            std::smatch match;
            if (std::regex_search(line, match, include)) {
                INFO(line);
                CHECK(rank(match[1]) <= rank(folder));
            }
        }
    }
    CHECK(files > 40);
}
