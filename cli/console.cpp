#include "console.h"

#include "base/files.h"

#include <atomic>
#include <chrono>
#include <csignal>
#include <cstdio>
#include <memory>
#include <mutex>
#include <nlohmann/json.hpp>
#include <unistd.h>

namespace pinion::cli {
namespace {

// The one job that Ctrl-C ends. A second Ctrl-C ends the process as usual.
std::atomic<const Progress*> running{nullptr};
std::atomic<int> interrupted{0};  // the signal

void onInterrupt(int signal) {
    interrupted = signal;
    if (const Progress* progress = running.load()) progress->stop();
    std::signal(signal, SIG_DFL);
}

}  // namespace

Progress consoleProgress(const std::string& what) {
    struct Line {
        std::mutex mutex;
        int tenth = -1;
        bool open = false;
        std::chrono::steady_clock::time_point start = std::chrono::steady_clock::now();
        std::chrono::steady_clock::time_point last;
    };
    auto line = std::make_shared<Line>();
    const bool terminal = ::isatty(STDERR_FILENO) != 0;
    Progress progress([line, terminal, what](double fraction, const std::string& detail) {
        const std::lock_guard lock(line->mutex);
        const int percent = int(fraction * 100);
        // What is over at once needs no progress.
        if (!line->open && std::chrono::steady_clock::now() - line->start < std::chrono::milliseconds(400)) return;
        line->open = true;
        if (terminal) {
            const auto now = std::chrono::steady_clock::now();
            if (fraction < 1 && now - line->last < std::chrono::milliseconds(80)) return;
            line->last = now;
            std::fprintf(stderr, "\r%s %3d %%  %-40s", what.c_str(), percent, detail.c_str());
            if (fraction >= 1) std::fputc('\n', stderr);
        } else if (percent / 10 != line->tenth) {
            line->tenth = percent / 10;
            std::fprintf(stderr, "%s %d %% %s\n", what.c_str(), percent, detail.c_str());
        }
        std::fflush(stderr);
    });
    static Progress kept;  // outlives the handler's use of it
    kept = progress;
    running = &kept;
    // Ctrl-C may fall between two jobs of one command; the next one is not to start then.
    if (interrupted) progress.stop();
    std::signal(SIGINT, onInterrupt);
    std::signal(SIGTERM, onInterrupt);  // what queues send
    return progress;
}

void say(const Console& console, const nlohmann::json& figures, const std::string& text) {
    if (console.json)
        std::printf("%s\n", figures.dump(-1, ' ', false, nlohmann::json::error_handler_t::replace).c_str());
    else if (!text.empty()) std::printf("%s\n", text.c_str());
}

int fail(const Error& error) {
    if (error.fault == Fault::stopped) {
        std::fprintf(stderr, "stopped\n");
        return interrupted == SIGTERM ? 128 + SIGTERM : 130;
    }
    // One line, whatever is in a name.
    std::string line;
    for (const char letter : error.message)
        if (letter == '\n' || letter == '\r') line += "; ";
        else if (static_cast<unsigned char>(letter) < 32 || letter == 127) line += '?';
        else line += letter;
    std::fprintf(stderr, "pinion-cli: %s\n", line.c_str());
    return error.fault == Fault::input ? 2 : 1;
}

Expected<void> put(const std::string& out, const std::string& contents) {
    if (out != "-") return writeFile(out, contents);
    if (std::fwrite(contents.data(), 1, contents.size(), stdout) != contents.size() || std::fflush(stdout) != 0)
        return failure(Fault::system, "standard output cannot be written");
    return {};
}

}  // namespace pinion::cli
