#include "comp/artshelf.h"

#include "base/files.h"
#include "plate/filestamp.h"
#include "plate/framewriter.h"
#include "plate/still.h"

#include <algorithm>

namespace pinion {
namespace {

namespace fs = std::filesystem;

Expected<std::shared_ptr<const Plate>> opened(const fs::path& path, bool& still) {
    std::error_code code;
    still = fs::is_regular_file(path, code) && isPictureName(path);
    if (still) return openStill(path, 1, 1);
    auto plate = Plate::open(path);
    if (plate && (*plate)->facts().frameCount() == 1) still = true;
    return plate;
}

}  // namespace

Expected<Clip> clipOf(const fs::path& path) {
    std::error_code code;
    if (!fs::exists(path, code) && !isSequencePattern(path))
        return failure(Fault::input, "{}: there is no such file", path.string());
    bool still = false;
    const auto plate = opened(path, still);
    if (!plate) return tl::unexpected(plate.error());
    const PlateFacts& facts = (*plate)->facts();
    if (facts.width > Art::kMostSide || facts.height > Art::kMostSide)
        return failure(Fault::input, "{}: is {}x{} pixels; make it smaller, {} on a side at most", path.string(),
                       facts.width, facts.height, Art::kMostSide);
    if (facts.width < 1 || facts.height < 1) return failure(Fault::input, "{}: has no pixels", path.string());
    Clip clip;
    clip.path = facts.path.empty() ? path : facts.path;
    clip.name = nameWithoutNumber(clip.path);
    if (clip.name.empty()) clip.name = "clip";
    clip.width = facts.width;
    clip.height = facts.height;
    clip.fps = facts.fps;
    clip.frames = {facts.firstFrame, facts.lastFrame};
    clip.still = still;
    clip.pixelAspect = facts.pixelAspect;
    // Its first frames may be damaged.
    constexpr int kLooked = 5;
    for (int frame = facts.firstFrame; frame <= facts.lastFrame && frame < facts.firstFrame + kLooked; ++frame)
        if (const auto alpha = (*plate)->readAlpha(frame)) {
            clip.hasAlpha = alpha->has_value();
            break;
        }
    // What the name does not tell, the file may.
    if (clip.hasAlpha && !alphaKindOf(clip)) clip.alpha = facts.alphaKind;
    return clip;
}

Expected<AlphaKind> alphaKindOf(const Clip& clip) {
    if (clip.alpha) return *clip.alpha;
    const std::string ending = loweredEnding(clip.path);
    if (ending == ".exr") return AlphaKind::premultiplied;
    if (ending == ".png") return AlphaKind::straight;
    return failure(Fault::input,
                   "{}: has an alpha, and it cannot be told whether its colours are multiplied by it; say "
                   "premultiplied or straight",
                   clip.path.string());
}

Expected<std::shared_ptr<const Plate>> ArtShelf::open(const Clip& clip) {
    const std::lock_guard lock(mutex_);
    std::error_code code;
    const bool isSequence = isSequencePattern(clip.path);
    if (!isSequence && !fs::exists(clip.path, code)) {
        open_.erase(clip.path);
        return failure(Fault::input, "{}: is not there any more", clip.path.string());
    }
    // Of a sequence each frame has its own stamp.
    const std::uint64_t stamp = isSequence ? 0 : stampOf(clip.path);
    const auto found = open_.find(clip.path);
    if (found != open_.end() && found->second.stamp == stamp) return found->second.plate;
    bool still = false;
    const auto plate = opened(clip.path, still);
    if (!plate) return tl::unexpected(plate.error());
    const PlateFacts& facts = (*plate)->facts();
    if (facts.width != clip.width || facts.height != clip.height)
        return failure(Fault::input, "{}: is {}x{} now, and was {}x{}", clip.path.string(), facts.width, facts.height,
                       clip.width, clip.height);
    open_[clip.path] = {stamp, *plate};
    return *plate;
}

std::shared_ptr<const Art> ArtShelf::kept(const Made& made) {
    const std::lock_guard lock(mutex_);
    const auto found = std::find_if(arts_.begin(), arts_.end(), [&](const auto& one) { return one.first == made; });
    if (found == arts_.end()) return nullptr;
    arts_.splice(arts_.begin(), arts_, found);
    return arts_.front().second;
}

std::shared_ptr<const Art> ArtShelf::keep(const Made& made, Art art) {
    auto shared = std::make_shared<const Art>(std::move(art));
    const std::lock_guard lock(mutex_);
    arts_.emplace_front(made, shared);
    std::size_t bytes = 0;
    for (auto one = arts_.begin(); one != arts_.end(); ++one) {
        bytes += one->second->sizeBytes();
        if (bytes > budget_ && one != arts_.begin()) {
            arts_.erase(one, arts_.end());
            break;
        }
    }
    return shared;
}

Expected<std::shared_ptr<const Art>> ArtShelf::art(const Clip& clip, int frame, bool forLinear,
                                                   const std::optional<ColourKey>& key) {
    const auto plate = open(clip);
    if (!plate) return tl::unexpected(plate.error());
    const Made made{clip.path, stampOf((*plate)->fileOf(frame)), frame, forLinear, key, clip.alpha, {}, 0};
    if (auto known = kept(made)) return known;
    const auto picture = (*plate)->read(frame);
    if (!picture) return tl::unexpected(picture.error());
    std::optional<ImageChannel> alpha;
    auto kind = AlphaKind::straight;
    if (clip.hasAlpha) {
        auto read = (*plate)->readAlpha(frame);
        if (!read) return tl::unexpected(read.error());
        alpha = *std::move(read);
        const auto known = alphaKindOf(clip);
        if (!known) return tl::unexpected(known.error());
        kind = *known;
    }
    auto art = Art::create(**picture, alpha ? &*alpha : nullptr, kind, forLinear, key);
    if (!art) return failure(art.error().fault, "{}: {}", clip.path.string(), art.error().message);
    return keep(made, *std::move(art));
}

std::shared_ptr<const Art> ArtShelf::test(double widthToHeight, bool forLinear) {
    const Made made{{}, 0, 1, forLinear, {}, {}, {}, widthToHeight};
    if (auto known = kept(made)) return known;
    return keep(made, *Art::create(testArt(widthToHeight), nullptr, AlphaKind::straight, forLinear));
}

std::shared_ptr<const Art> ArtShelf::plain(const std::array<double, 3>& colour, double widthToHeight, bool forLinear) {
    const Made made{{}, 0, 0, forLinear, {}, {}, colour, widthToHeight};
    if (auto known = kept(made)) return known;
    return keep(made, *Art::create(plainArt(colour, widthToHeight), nullptr, AlphaKind::straight, forLinear));
}

}  // namespace pinion
