#pragma once

#include <string>
#include <string_view>

namespace pinion {

/// Whether all of it is UTF-8 (RFC 3629): no overlong forms, no surrogates, nothing above U+10FFFF.
bool isUtf8(std::string_view bytes);

/// The same text as UTF-8: as it is, or, when it is none, read as ISO 8859-1, in which every byte is a character.
std::string asUtf8(std::string bytes);

}  // namespace pinion
