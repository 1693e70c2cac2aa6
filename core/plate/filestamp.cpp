#include "plate/filestamp.h"

namespace pinion {
namespace {

/// Fowler, Noll and Vo's hash (FNV-1a) of numbers.
std::uint64_t mixed(std::uint64_t hash, std::uint64_t number) {
    for (int byte = 0; byte < 8; ++byte) hash = (hash ^ (number >> (8 * byte) & 0xff)) * 1099511628211ULL;
    return hash;
}

constexpr std::uint64_t kFirst = 14695981039346656037ULL;

}  // namespace

std::uint64_t stampOf(const std::filesystem::path& file) {
    std::error_code code;
    const auto size = std::filesystem::file_size(file, code);
    const auto time = std::filesystem::last_write_time(file, code);
    if (code) return 0;
    return mixed(mixed(kFirst, size), std::uint64_t(time.time_since_epoch().count()));
}

std::uint64_t stampOf(const Plate& plate, const FrameRange& range) {
    std::uint64_t stamp = kFirst;
    std::filesystem::path before;
    for (int frame = range.first; frame <= range.last; ++frame) {
        const std::filesystem::path file = plate.fileOf(frame);
        if (file != before) stamp = mixed(stamp, stampOf(file));
        before = file;
    }
    return stamp;
}

}  // namespace pinion
