#include "jobs/places.h"

#include <algorithm>

namespace pinion {
namespace {

namespace fs = std::filesystem;

/// Without links, `.` and `..`, as far as it exists.
fs::path settled(const fs::path& path) {
    std::error_code code;
    fs::path result = fs::weakly_canonical(fs::absolute(path, code), code);
    if (code) result = fs::absolute(path, code).lexically_normal();
    return result.has_filename() ? result : result.parent_path();
}

bool isWithin(const fs::path& path, const fs::path& folder) {
    const fs::path relative = path.lexically_relative(folder);
    return !relative.empty() && relative != "." && *relative.begin() != "..";
}

std::vector<const Deliverable*> chosen(const Shot& shot, const std::vector<std::string>& names) {
    std::vector<const Deliverable*> result;
    for (const Deliverable& item : shot.deliverables)
        if (names.empty() || std::find(names.begin(), names.end(), item.name) != names.end()) result.push_back(&item);
    return result;
}

/// Whether it is a frame of the shot's sequence.
bool isFrameOf(const fs::path& path, const fs::path& pattern) {
    const std::string name = pattern.filename().string(), file = path.filename().string();
    const auto first = name.find('#'), last = name.find_last_of('#');
    if (first == std::string::npos || path.parent_path() != settled(pattern.parent_path())) return false;
    const std::string before = name.substr(0, first), after = name.substr(last + 1);
    return file.size() > before.size() + after.size() && file.starts_with(before) && file.ends_with(after) &&
           std::all_of(file.begin() + std::ptrdiff_t(before.size()), file.end() - std::ptrdiff_t(after.size()),
                       [](char c) { return c >= '0' && c <= '9'; });
}

}  // namespace

bool liesOutside(const fs::path& path, const fs::path& folder) { return !isWithin(settled(path), settled(folder)); }

std::string fileNameOf(const std::string& name) {
    std::string file = name;
    for (char& letter : file)
        if (letter == '/' || letter == '\\' || letter == '#' || letter == '%' ||
            static_cast<unsigned char>(letter) < 32)
            letter = '_';
    if (file.empty() || file.front() == '.') file.insert(file.begin(), '_');
    return file;
}

std::vector<OutsidePlace> placesOutside(const Shot& shot, const fs::path& folder,
                                        const std::vector<std::string>& names) {
    std::vector<OutsidePlace> outside;
    const fs::path within = settled(folder);
    for (const Deliverable* item : chosen(shot, names)) {
        if (item->place.empty()) continue;
        const fs::path path = settled(folder / item->place);
        if (!isWithin(path, within)) outside.push_back({item->name, path});
    }
    return outside;
}

Expected<void> checkPlaces(const Shot& shot, const fs::path& folder, const fs::path& shotFile, bool outsideAllowed,
                           const std::vector<std::string>& names) {
    std::vector<std::pair<fs::path, std::string>> taken;
    for (const Deliverable* item : chosen(shot, names)) {
        if (item->place.empty()) return failure(Fault::input, "deliverable {}: has no place", item->name);
        const fs::path path = settled(folder / item->place);
        if (!shotFile.empty() && path == settled(shotFile))
            return failure(Fault::input, "deliverable {}: its place {} is the shot's own file; choose another",
                           item->name, item->place);
        if (!shot.plate.path.empty() && (path == settled(shot.plate.path) || isFrameOf(path, shot.plate.path)))
            return failure(Fault::input, "deliverable {}: its place {} is the plate; choose another", item->name,
                           item->place);
        for (const auto& [other, name] : taken)
            if (other == path)
                return failure(Fault::input, "deliverables {} and {} have one place, {}; give one of them another",
                               name, item->name, item->place);
        taken.emplace_back(path, item->name);
    }
    if (outsideAllowed) return {};
    const auto outside = placesOutside(shot, folder, names);
    if (outside.empty()) return {};
    return failure(Fault::input, "deliverable {}: would be written to {}, outside the delivery folder {}",
                   outside.front().name, outside.front().path.string(), settled(folder).string());
}

}  // namespace pinion
