#include "render/cardfile.h"

#include "comp/artshelf.h"
#include "plate/framewriter.h"

#include <list>
#include <mutex>

namespace pinion {
namespace {

namespace fs = std::filesystem;

struct KeptCard {
    fs::path path;
    fs::file_time_type time;
    CardClip card;
};

}  // namespace

Expected<CardClip> cardClipOf(const fs::path& path) {
    static std::mutex mutex;
    static std::list<KeptCard> kept;
    constexpr std::size_t kMost = 32;
    std::error_code code;
    const auto time = fs::last_write_time(isSequencePattern(path) ? path.parent_path() : path, code);
    {
        const std::lock_guard lock(mutex);
        for (const KeptCard& one : kept)
            if (!code && one.path == path && one.time == time) return one.card;
    }
    const auto clip = clipOf(path);
    if (!clip) return tl::unexpected(clip.error());
    CardClip card{*clip, clip->hasAlpha && !alphaKindOf(*clip)};
    if (card.alphaIsTaken) card.clip.alpha = AlphaKind::straight;
    if (code) return card;
    const std::lock_guard lock(mutex);
    std::erase_if(kept, [&](const KeptCard& one) { return one.path == path; });
    kept.push_front({path, time, card});
    if (kept.size() > kMost) kept.pop_back();
    return card;
}

}  // namespace pinion
