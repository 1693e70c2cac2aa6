#pragma once

#include "console.h"

#include <functional>
#include <span>

namespace CLI {
class App;
}

namespace pinion::cli {

/// Runs a command whose words have been read; gives the exit status.
using Runner = std::function<int(const Console&)>;

/// One command: its name, what it does, and what puts its words into the parser. A command is a file of this folder and
/// a line of the table in commands.cpp.
struct Command {
    const char* name;
    const char* does;
    Runner (*add)(CLI::App& command);
};

std::span<const Command> commands();

}  // namespace pinion::cli
