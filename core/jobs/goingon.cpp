#include "jobs/goingon.h"

#include "base/files.h"
#include "base/json.h"
#include "plate/framewriter.h"

namespace pinion {

namespace fs = std::filesystem;

GoingOn::GoingOn(const fs::path& pattern, std::uint64_t key, const FrameRange& range)
    : pattern_(pattern),
      mark_(pattern.parent_path() / (nameWithoutNumber(pattern) + ".unfinished.json")),
      key_(key),
      isSequence_(isSequencePattern(pattern)) {
    // What is younger than the mark of the same render was written by it.
    const auto before =
        isSequence_
            ? jsonfile::parseFile(
                  mark_, [](const jsonfile::json& document) { return jsonfile::text(document, "render", "file"); })
            : tl::unexpected(Error{});
    std::error_code code;
    const bool isSame = before && *before == std::to_string(key);
    const auto begun = isSame ? fs::last_write_time(mark_, code) : fs::file_time_type{};
    for (int frame = range.first; frame <= range.last; ++frame) {
        const auto made = isSame ? fs::last_write_time(frameFile(pattern, frame), code) : fs::file_time_type{};
        if (isSame && !code && made >= begun) ++kept_;
        else open_.push_back(frame);
    }
}

Expected<void> GoingOn::begin() const {
    if (!isSequence_) return {};
    if (const auto folder = makeFolder(pattern_.parent_path()); !folder) return tl::unexpected(folder.error());
    // The mark of a render that goes on stays as old as it is.
    if (kept_ > 0) return {};
    const jsonfile::json document{{"format", "pinion.unfinished"}, {"version", 1}, {"render", std::to_string(key_)}};
    return writeFile(mark_, jsonfile::dumped(document, 2) + "\n");
}

Error GoingOn::failed(const Error& error) const {
    if (!isSequence_) return error;
    return {error.fault, error.message + "; the frames before it are kept, and rendering goes on there"};
}

void GoingOn::finish() const {
    std::error_code code;
    if (isSequence_) fs::remove(mark_, code);
}

}  // namespace pinion
