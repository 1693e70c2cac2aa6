#include "shot/file/shotfile.h"

#include "base/files.h"
#include "base/json.h"
#include "shot/carriers/carriers.h"
#include "shot/file/parts.h"

namespace pinion {

namespace {

using namespace jsonfile;
namespace fs = std::filesystem;

/// Rides of older files name what they are on; ids are given once all is there.
Shot tiedShot(const Shot& shot) {
    return withRidesEdited(shot, [&](Ride ride) { return tied(shot, std::move(ride)); });
}

Shot takeShot(const json& document, const fs::path& file) {
    expectFormat(document, "pinion.shot", 1);
    Shot shot;
    shot.name = text(document, "name", "file");
    for (const ShotFilePart& part : shotFileParts()) part.take(document, shot, file);
    return tiedShot(shot);
}

}  // namespace

std::string partText(const ShotFilePart& part, const Shot& shot) {
    json document;
    part.put(document, shot, "/shot.pinion");
    makeFinite(document);
    return dumped(document);
}

std::string shotJson(const Shot& shot, const fs::path& file) {
    json document{{"format", "pinion.shot"}, {"version", 1}, {"name", shot.name}};
    for (const ShotFilePart& part : shotFileParts()) part.put(document, shot, file);
    // A deviation may be without bounds; the file is to be read again all the same.
    makeFinite(document);
    return dumped(document) + "\n";
}

Expected<Shot> parseShot(const std::string& contents, const fs::path& file) {
    return parseText(contents, file.string(), [&](const json& document) { return takeShot(document, file); });
}

Expected<void> saveShot(const Shot& shot, const fs::path& file) {
    const std::string contents = shotJson(shot, file);
    if (const auto back = parseShot(contents, file); !back) {
        fs::path aside = file;
        aside += ".unreadable";
        const bool isKept = writeFile(aside, contents).has_value();
        return failure(Fault::system,
                       "{}; the shot was not saved, since it could not be opened again, and the file is as it was{}. "
                       "Undo the last steps and save again",
                       back.error().message, isKept ? "; what is in the window was written to " + aside.string() : "");
    }
    return writeFile(file, contents);
}

Expected<Shot> loadShot(const fs::path& file) {
    const auto contents = readFile(file);
    if (!contents) return tl::unexpected(contents.error());
    return parseShot(*contents, file);
}

}  // namespace pinion
