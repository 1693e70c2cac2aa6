#include "words.h"

#include <cstdio>

namespace pinion::cli {

Expected<std::pair<int, int>> sizeFrom(const std::string& option, const std::string& word) {
    int width = 0, height = 0;
    char rest = 0;
    if (std::sscanf(word.c_str(), "%dx%d%c", &width, &height, &rest) != 2 || width < 1 || height < 1 || width > 32768 ||
        height > 32768)
        return failure(Fault::input, "{} {}: write WxH, as in 1920x1080", option, word);
    return std::pair{width, height};
}

}  // namespace pinion::cli
