#pragma once

#include "base/expected.h"
#include "base/progress.h"

#include <nlohmann/json_fwd.hpp>
#include <string>

namespace pinion::cli {

/// What every command shares: where progress goes, how results and errors are said, and Ctrl-C.
struct Console {
    bool json = false;      ///< one JSON object on standard output, nothing else
    int threads = 0;        ///< 0: all processors
    int memory_mib = 2048;  ///< the frame cache's budget
    std::string fps;        ///< where the plate does not say it
    int firstFrame = 1001;  ///< of a video
};

/// Progress on standard error: one line that updates on a terminal, a plain line every tenth otherwise. Ctrl-C stops
/// it.
Progress consoleProgress(const std::string& what);

/// Prints the figures as JSON, or `text` for a reader.
void say(const Console& console, const nlohmann::json& figures, const std::string& text);

/// Prints the error as one line and gives the exit status.
int fail(const Error& error);

/// Writes a result to `out`; "-" is standard output.
Expected<void> put(const std::string& out, const std::string& contents);

}  // namespace pinion::cli
