#pragma once

// What the tests of the command line share: running it as a script would.

#include "base/files.h"
#include "scratch.h"

#include <array>
#include <catch2/catch.hpp>
#include <cstdio>
#include <string>
#include <sys/wait.h>

namespace pinion::test {

inline const std::string kCli = std::string(PINION_BINARY_DIR) + "/bin/pinion-cli";
inline const std::string kPlate = std::string(PINION_SOURCE_DIR) + "/demo/plates/landing.mp4";

struct Outcome {
    int status;
    std::string out;
    std::string err;
};

/// `before`: what the shell does first.
inline Outcome run(const std::string& words, const std::string& before = {}) {
    const Scratch scratch;
    const std::string errors = (scratch / "err").string();
    std::FILE* pipe = ::popen((before + kCli + " " + words + " 2>" + errors).c_str(), "r");
    REQUIRE(pipe);
    Outcome outcome{0, "", ""};
    std::array<char, 4096> buffer{};
    std::size_t count = 0;
    while ((count = std::fread(buffer.data(), 1, buffer.size(), pipe)) > 0) outcome.out.append(buffer.data(), count);
    const int status = ::pclose(pipe);
    outcome.status = WIFEXITED(status) ? WEXITSTATUS(status) : -1;
    outcome.err = *readFile(errors);
    return outcome;
}

/// The one line an error is said in.
inline void checkRefused(const Outcome& outcome, int status, const std::string& part) {
    INFO(outcome.err);
    CHECK(outcome.status == status);
    CHECK(outcome.out.empty());
    CHECK(outcome.err.find(part) != std::string::npos);
    const auto start = outcome.err.rfind("pinion-cli: ");
    REQUIRE(start != std::string::npos);
    const std::string last = outcome.err.substr(start);
    CHECK(std::count(last.begin(), last.end(), '\n') == 1);
}

}  // namespace pinion::test
