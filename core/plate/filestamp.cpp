#include "plate/filestamp.h"

#include "base/fingerprint.h"

namespace pinion {

std::uint64_t stampOf(const std::filesystem::path& file) {
    std::error_code code;
    const auto size = std::filesystem::file_size(file, code);
    const auto time = std::filesystem::last_write_time(file, code);
    if (code) return 0;
    return Fingerprint().add(std::uint64_t(size)).add(std::uint64_t(time.time_since_epoch().count())).value();
}

std::uint64_t stampOf(std::span<const std::filesystem::path> files) {
    Fingerprint stamp;
    for (const std::filesystem::path& file : files) stamp.add(stampOf(file));
    return stamp.value();
}

std::uint64_t stampOf(const Plate& plate, const FrameRange& range) {
    std::vector<std::filesystem::path> files;
    for (int frame = range.first; frame <= range.last; ++frame)
        if (std::filesystem::path file = plate.fileOf(frame); files.empty() || file != files.back())
            files.push_back(std::move(file));
    return stampOf(files);
}

}  // namespace pinion
