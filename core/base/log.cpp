#include "base/log.h"

#include <spdlog/sinks/rotating_file_sink.h>
#include <spdlog/spdlog.h>

#include <memory>

namespace pinion::log {
namespace {

constexpr std::size_t kMostBytes = 1 << 20;
constexpr std::size_t kOlderFiles = 2;

std::shared_ptr<spdlog::logger>& logger() {
    static std::shared_ptr<spdlog::logger> held;
    return held;
}

void write(spdlog::level::level_enum level, std::string_view words) {
    if (const auto open = logger()) open->log(level, "{}", words);
}

}  // namespace

void open(const std::filesystem::path& file) {
    try {
        std::filesystem::create_directories(file.parent_path());
        logger() = spdlog::rotating_logger_mt(file.string(), file.string(), kMostBytes, kOlderFiles);
        logger()->set_pattern("%Y-%m-%d %H:%M:%S.%e  %P  %l  %v");
        logger()->flush_on(spdlog::level::info);
    } catch (const std::exception&) {
        logger().reset();  // a folder that cannot be written is no reason not to work
    }
}

void info(std::string_view words) { write(spdlog::level::info, words); }
void error(std::string_view words) { write(spdlog::level::err, words); }

}  // namespace pinion::log
