#pragma once

#include <fmt/format.h>

#include <filesystem>
#include <string_view>

namespace pinion::log {

/// Opens the log: a file that is turned over at 1 MiB, two older ones kept. Until then, and where the file cannot be
/// written, what is logged goes nowhere. The one global state of the program; safe from several threads.
void open(const std::filesystem::path& file);

void info(std::string_view words);
void error(std::string_view words);

template <class... Parts>
void info(fmt::format_string<Parts...> words, Parts&&... parts) {
    info(std::string_view(fmt::format(words, std::forward<Parts>(parts)...)));
}
template <class... Parts>
void error(fmt::format_string<Parts...> words, Parts&&... parts) {
    error(std::string_view(fmt::format(words, std::forward<Parts>(parts)...)));
}

}  // namespace pinion::log
