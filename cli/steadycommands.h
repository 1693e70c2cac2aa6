#pragma once

#include "plates.h"

#include <memory>

namespace CLI {
class App;
}

namespace pinion::cli {

/// `steady`, `shake take`, `shake lend`.
class SteadyCommands {
public:
    explicit SteadyCommands(CLI::App& app);
    ~SteadyCommands();
    SteadyCommands(const SteadyCommands&) = delete;
    SteadyCommands& operator=(const SteadyCommands&) = delete;

    bool parsed() const;
    /// Runs the one that was asked for; gives the exit status.
    int run(const Console& console, const std::string& fps, int firstFrame) const;

private:
    struct Words;
    std::unique_ptr<Words> words_;
};

}  // namespace pinion::cli
