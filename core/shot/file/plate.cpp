#include "shot/file/parts.h"
#include "shot/file/values.h"

namespace pinion {
namespace {

using namespace jsonfile;
using namespace shotfile;
namespace fs = std::filesystem;

FrameRange takeRange(const json& object, const char* name, const std::string& where) {
    const json& value = list(object, name, where);
    if (value.size() != 2) malformed(where + "." + name + ": has not 2 frames");
    const FrameRange range{int(number(value[0], where)), int(number(value[1], where))};
    if (range.last < range.first || range.count() > 10'000'000)
        malformed(where + "." + name + ": its last frame lies before its first");
    return range;
}

void put(json& document, const Shot& shot, const fs::path& file) {
    json& plate = document["plate"];
    fs::path path = shot.plate.path;
    if (shot.plate.isOpen()) {
        std::error_code code;
        const fs::path folder = fs::absolute(file, code).parent_path();
        const fs::path relative = fs::absolute(path, code).lexically_relative(folder);
        path = !relative.empty() && *relative.begin() != ".." ? relative : fs::absolute(path, code);
    }
    plate["path"] = path.string();
    if (shot.plate.isOpen()) {
        plate["width"] = shot.plate.width;
        plate["height"] = shot.plate.height;
        putRate(plate, shot.plate.fps);
        putTimes(plate, shot.plate.times);
        plate["frames"] = {shot.plate.frames.first, shot.plate.frames.last};
        plate["range"] = {shot.plate.range.first, shot.plate.range.last};
    }
}

void take(const json& document, Shot& shot, const fs::path& file) {
    const json& plate = member(document, "plate", "file");
    shot.plate.path = text(plate, "path", "plate");
    if (shot.plate.isOpen()) {
        if (shot.plate.path.is_relative()) shot.plate.path = (file.parent_path() / shot.plate.path).lexically_normal();
        shot.plate.width = whole(plate, "width", "plate");
        shot.plate.height = whole(plate, "height", "plate");
        if (shot.plate.width < 1 || shot.plate.height < 1) malformed("plate: the size is not above 0");
        shot.plate.fps = takeRate(plate, "plate");
        shot.plate.times = takeTimes(plate, "plate");
        shot.plate.frames = takeRange(plate, "frames", "plate");
        shot.plate.range = takeRange(plate, "range", "plate");
        if (shot.plate.range.first < shot.plate.frames.first || shot.plate.range.last > shot.plate.frames.last)
            malformed("plate.range: reaches beyond the plate");
    }
}

}  // namespace

ShotFilePart platePart() { return {put, take}; }

}  // namespace pinion
