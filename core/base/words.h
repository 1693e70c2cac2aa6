#pragma once

#include <array>
#include <cstddef>
#include <optional>
#include <string_view>

namespace pinion {

/// The value of an enumeration whose word stands at its place in `words`; none for a word that is not there.
template <class Enum, std::size_t N>
std::optional<Enum> fromWord(const std::array<std::string_view, N>& words, std::string_view word) {
    for (std::size_t i = 0; i < N; ++i)
        if (words[i] == word) return Enum(i);
    return std::nullopt;
}

}  // namespace pinion
