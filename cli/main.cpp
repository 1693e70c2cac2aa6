// pinion-cli: the same jobs as the window, for scripts, batch work and checks. Exit status: 0 done; 1 no result could
// be reached, or it could not be written; 2 the input or the words are wrong; 130 stopped by Ctrl-C.

#include "base/memory.h"
#include "base/parallel.h"
#include "commands/command.h"
#include "console.h"

#include <CLI/CLI.hpp>
#include <cmath>
#include <fcntl.h>
#include <map>
#include <unistd.h>

namespace {

using namespace pinion;
using namespace pinion::cli;

/// The first option of a command, or of one below it, that was given "-".
const CLI::Option* takesStandardOutput(const CLI::App& app) {
    if (!app.parsed()) return nullptr;
    for (const CLI::Option* option : app.get_options())
        if (option->count() > 0 && option->results().back() == "-" && !option->get_positional()) return option;
    for (const CLI::App* command : app.get_subcommands({}))
        if (const CLI::Option* option = takesStandardOutput(*command)) return option;
    return nullptr;
}

/// "nan" and "inf" pass every check of a range.
Expected<void> checkFinite(const CLI::App& app) {
    for (const CLI::Option* option : app.get_options())
        if (option->get_type_name().starts_with("FLOAT"))
            for (const std::string& word : option->results())
                if (char* end = nullptr; !std::isfinite(std::strtod(word.c_str(), &end)))
                    return failure(Fault::input, "{} {}: is no finite number", option->get_name(), word);
    for (const CLI::App* command : app.get_subcommands())
        if (auto checked = checkFinite(*command); !checked) return checked;
    return {};
}

/// The first word where a command is expected, when it is none.
std::string unknownCommand(const CLI::App& app, int argc, char** argv) {
    for (int i = 1; i < argc; ++i) {
        const std::string word = argv[i];
        if (word == "--threads" || word == "--memory" || word == "--fps" || word == "--first-frame") ++i;
        else if (!word.starts_with('-')) {
            const auto isIt = [&](const CLI::App* command) { return command->check_name(word); };
            return app.get_subcommands(isIt).empty() ? word : "";
        }
    }
    return "";
}

void addGlobalOptions(CLI::App& app, Console& console) {
    app.require_subcommand(1);
    app.fallthrough();
    app.set_version_flag("--version", "pinion-cli 0.1.0");
    app.add_flag("--json", console.json, "print one JSON object with the figures");
    app.add_option("--threads", console.threads, "threads at most; 0 all")->check(CLI::Range(0, 1024));
    app.add_option("--memory", console.memory_mib, "MiB for the frame cache")->check(CLI::Range(16, 1 << 20));
    app.add_option("--fps", console.fps, "frame rate, where the plate does not say it: 24, 24000/1001");
    app.add_option("--first-frame", console.firstFrame, "number of a video's first frame")
        ->check(CLI::Range(0, 100000000));
}

int runCommand(int argc, char** argv) {
    returnLargeBlocks();
    CLI::App app{"Pinion's jobs from the command line."};
    Console console;
    addGlobalOptions(app, console);
    std::map<const CLI::App*, Runner> runners;
    for (const Command& command : commands()) {
        CLI::App* words = app.add_subcommand(command.name, command.does);
        runners[words] = command.add(*words);
    }
    try {
        app.parse(argc, argv);
    } catch (const CLI::ParseError& error) {
        if (error.get_exit_code() == 0) return app.exit(error);
        if (const std::string word = unknownCommand(app, argc, argv); !word.empty()) {
            std::fprintf(stderr, "pinion-cli: there is no command '%s' (see --help)\n", word.c_str());
            return 2;
        }
        std::fprintf(stderr, "pinion-cli: %s (see --help)\n", error.what());
        return 2;
    }
    if (const auto checked = checkFinite(app); !checked) return fail(checked.error());
    limitThreads(console.threads);
    if (console.json)
        for (const CLI::App* command : app.get_subcommands({}))
            if (const CLI::Option* option = takesStandardOutput(*command))
                return fail(
                    {Fault::input, fmt::format("--json and {} -: both want standard output", option->get_name())});
    return runners.at(app.get_subcommands().front())(console);
}

}  // namespace

/// A closed stream's number goes to the next file that is opened, and what is said would be written into it.
void holdStandardStreams() {
    for (const int stream : {STDIN_FILENO, STDOUT_FILENO, STDERR_FILENO})
        if (::fcntl(stream, F_GETFD) < 0) (void)::open("/dev/null", stream == STDIN_FILENO ? O_RDONLY : O_WRONLY);
}

int main(int argc, char** argv) {
    holdStandardStreams();
    // Nothing may end a command without a word; what comes here is a fault of ours or of the machine.
    try {
        const int status = runCommand(argc, argv);
        if (status == 0 && (std::fflush(stdout) != 0 || std::ferror(stdout) != 0))
            return fail({Fault::system, "standard output cannot be written: the disk is full, or it was closed"});
        return status;
    } catch (const std::bad_alloc&) {
        return fail({Fault::system, "there is not enough memory for this"});
    } catch (const std::exception& error) {
        return fail({Fault::system, fmt::format("it ended unexpectedly: {}", error.what())});
    }
}
