#include "shot/file/parts.h"
#include "shot/file/values.h"

namespace pinion {
namespace {

using namespace jsonfile;
using namespace shotfile;
namespace fs = std::filesystem;

void putPlatePart(json& document, const Shot& shot, const fs::path& file) {
    json& plate = document["plate"];
    plate["path"] = shot.plate.isOpen() ? writtenPath(shot.plate.path, file) : "";
    if (shot.plate.isOpen()) {
        plate["width"] = shot.plate.width;
        plate["height"] = shot.plate.height;
        if (shot.plate.pixelAspect != 1) plate["pixel_aspect"] = shot.plate.pixelAspect;
        putRate(plate, shot.plate.fps);
        putTimes(plate, shot.plate.times);
        plate["frames"] = {shot.plate.frames.first, shot.plate.frames.last};
        plate["range"] = {shot.plate.range.first, shot.plate.range.last};
    }
}

void takePlatePart(const json& document, Shot& shot, const fs::path& file) {
    const json& plate = member(document, "plate", "file");
    shot.plate.path = text(plate, "path", "plate");
    if (shot.plate.isOpen()) {
        shot.plate.path = takenPath(shot.plate.path, file);
        shot.plate.width = whole(plate, "width", "plate");
        shot.plate.height = whole(plate, "height", "plate");
        if (shot.plate.width < 1 || shot.plate.height < 1) malformed("plate: the size is not above 0");
        if (plate.contains("pixel_aspect")) shot.plate.pixelAspect = takeAspect(plate, "plate");
        shot.plate.fps = takeRate(plate, "plate");
        shot.plate.times = takeTimes(plate, "plate");
        shot.plate.frames = takeRange(plate, "frames", "plate");
        shot.plate.range = takeRange(plate, "range", "plate");
        if (shot.plate.range.first < shot.plate.frames.first || shot.plate.range.last > shot.plate.frames.last)
            malformed("plate.range: reaches beyond the plate");
    }
}

}  // namespace

ShotFilePart platePart() { return {putPlatePart, takePlatePart}; }

}  // namespace pinion
