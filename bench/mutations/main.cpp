// pinion-mutations: thousands of damaged files for every reader; for a build with the sanitisers
// (cmake -DPINION_SANITIZE=ON). Ends with 1 when a reader crashes, throws, hangs or talks like a library.

#include "mutations/mutations.h"

#include <CLI/CLI.hpp>
#include <fmt/core.h>
#include <fstream>
#include <unistd.h>

int main(int argc, char** argv) {
    using namespace pinion::bench;
    CLI::App app{"Damaged files for every reader."};
    int count = 10000;
    unsigned seed = 1;
    std::string only, keep;
    app.add_option("--count", count, "files for each reader");
    app.add_option("--seed", seed);
    app.add_option("--only", only, "one reader by its name");
    app.add_option("--keep", keep, "a folder for the files that show a fault");
    CLI11_PARSE(app, argc, argv);
    const std::filesystem::path folder =
        std::filesystem::temp_directory_path() / fmt::format("pinion-mutations-{}", ::getpid());
    std::filesystem::create_directories(folder);
    int faults = 0;
    for (const ReaderUnderTest& reader : readersUnderTest()) {
        if (!only.empty() && reader.name != only) continue;
        std::mt19937 random(seed);
        int taken = 0, wrong = 0;
        std::filesystem::path path = folder / reader.file;
        for (int i = 0; i < count; ++i) {
            const std::string contents = mutated(reader.contents, random);
            std::ofstream(path, std::ios::binary) << contents;
            const std::string fault = faultOf(reader, path);
            taken += fault.empty() && reader.read(path).empty();
            if (fault.empty()) continue;
            if (++wrong <= 5) fmt::print("  {} {}: {}\n", reader.name, i, fault);
            if (!keep.empty())
                std::ofstream(std::filesystem::path(keep) / fmt::format("{}-{}", i, reader.file)) << contents;
        }
        fmt::print("{}: {} files, {} taken, {} faults\n", reader.name, count, taken, wrong);
        std::fflush(stdout);
        faults += wrong;
    }
    std::filesystem::remove_all(folder);
    return faults > 0 ? 1 : 0;
}
