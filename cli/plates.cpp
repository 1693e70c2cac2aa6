#include "plates.h"

#include "exchange/formats.h"
#include "matte/sequence.h"
#include "matte/riding.h"
#include "shot/carriers/carriers.h"

#include <algorithm>
#include <cstdio>

namespace pinion::cli {

Expected<FrameRange> parseRange(const std::string& text, const PlateFacts& facts) {
    if (text.empty()) return FrameRange{facts.firstFrame, facts.lastFrame};
    FrameRange range;
    char rest = 0;
    if (std::sscanf(text.c_str(), "%d-%d%c", &range.first, &range.last, &rest) != 2)
        return failure(Fault::input, "--range {}: write A-B, as in 1001-1120", text);
    if (range.last < range.first || !facts.holds(range.first) || !facts.holds(range.last))
        return failure(Fault::input, "--range {}: lies outside the plate's frames {}-{}", text, facts.firstFrame,
                       facts.lastFrame);
    return range;
}

PlateOptions plateOptions(const Console& console) { return {.firstFrameOfVideo = console.firstFrame, .fps = {}}; }

Expected<std::shared_ptr<const Plate>> openPlate(const Console& console, const std::string& path) {
    return openPlate(console, path, plateOptions(console));
}

Expected<std::shared_ptr<const Plate>> openPlate(const Console& console, const std::string& path,
                                                 PlateOptions options) {
    if (!console.fps.empty()) {
        const auto rate = parseFrameRate(console.fps);
        if (!rate) return tl::unexpected(Error{Fault::input, "--fps " + rate.error().message});
        options.fps = *rate;
    }
    return Plate::open(path, options, consoleProgress("Opening"));
}

std::size_t budget(const Console& console) { return std::size_t(console.memory_mib) << 20; }

Expected<std::vector<Track>> tracksFor(const std::string& path, const PlateFacts& facts) {
    auto file = readTracks(path);
    if (!file) return tl::unexpected(file.error());
    // A table need not say the size.
    if (file->width != 0 && (file->width != facts.width || file->height != facts.height))
        return failure(Fault::input, "{}: is for {}x{}, the plate is {}x{}", path, file->width, file->height,
                       facts.width, facts.height);
    if (file->width != 0 && !(file->fps == facts.fps))
        std::fprintf(stderr, "note: %s says %s frames/s, the plate %s\n", path.c_str(), toString(file->fps).c_str(),
                     toString(facts.fps).c_str());
    for (const Track& track : file->tracks)
        for (const Sample& sample : track.samples)
            if (!facts.holds(sample.frame))
                return failure(Fault::input, "{}: track '{}' has frame {}, the plate holds {}-{}", path, track.name,
                               sample.frame, facts.firstFrame, facts.lastFrame);
    return std::move(file->tracks);
}

Expected<CameraFile> cameraFor(const std::string& path, const PlateFacts& facts) {
    auto camera = readCamera(path);
    if (camera && (camera->width != facts.width || camera->height != facts.height))
        return failure(Fault::input, "{}: the camera is for {}x{}, the plate is {}x{}", path, camera->width,
                       camera->height, facts.width, facts.height);
    return camera;
}

Expected<Lens> lensFor(const std::string& path, const PlateFacts& facts) {
    auto lens = readLens(path);
    if (lens && (lens->width != facts.width || lens->height != facts.height))
        return failure(Fault::input, "{}: is for {}x{}, the plate is {}x{}", path, lens->width, lens->height,
                       facts.width, facts.height);
    return lens;
}

Expected<std::shared_ptr<const Plate>> openPlateOf(const Console& console, const Shot& shot) {
    PlateOptions opening = plateOptions(console);
    opening.firstFrameOfVideo = shot.plate.frames.first;
    auto plate = openPlate(console, shot.plate.path.string(), opening);
    if (!plate) return plate;
    const PlateFacts& facts = (*plate)->facts();
    if (facts.width != shot.plate.width || facts.height != shot.plate.height)
        return failure(Fault::input, "{}: is {}x{}, the shot's plate was {}x{}", facts.path.string(), facts.width,
                       facts.height, shot.plate.width, shot.plate.height);
    if (!facts.holds(shot.plate.range.first) || !facts.holds(shot.plate.range.last))
        return failure(Fault::input,
                       "{}: holds the frames {}-{}, the shot works on {}-{}; put the plate back as it was, or trim the "
                       "range in the window",
                       facts.path.string(), facts.firstFrame, facts.lastFrame, shot.plate.range.first,
                       shot.plate.range.last);
    return plate;
}

Expected<std::vector<Matte>> mattesFor(const std::string& path, const std::string& tracks, const FrameRange& range,
                                       const PlateFacts& facts) {
    auto mattes = readMattes(path);
    if (!mattes) return mattes;
    for (const std::string& trouble : pictureTroubles(*mattes, range, facts.width, facts.height))
        return failure(Fault::input, "{}: shape {}", path, trouble);
    const auto riding = std::find_if(mattes->begin(), mattes->end(), [](const Matte& matte) { return matte.ride; });
    if (riding == mattes->end()) return mattes;
    if (tracks.empty())
        return failure(Fault::input, "{}: shape '{}' rides on {}; give the tracks as well", path, riding->name,
                       riding->ride->on == "picture"
                           ? std::string("the picture's motion")
                           : fmt::format("{}{}", riding->ride->on == "tracks" ? "" : "the " + riding->ride->on + " ",
                                         riding->ride->names.front()));
    const auto carriers = tracksFor(tracks, facts);
    if (!carriers) return tl::unexpected(carriers.error());
    Shot shot;
    shot.plate = plateRef(facts);
    shot.plate.range = range;
    shot.tracks = List<Track>(*carriers);
    for (Matte& matte : *mattes)
        if (matte.ride) matte.ride = tied(shot, *matte.ride);
    auto carried = ridden(std::move(*mattes), carriersOf(shot), range);
    if (!carried) return failure(carried.error().fault, "{}: {}", path, carried.error().message);
    return carried;
}

}  // namespace pinion::cli
