#include "matte/sequence.h"

#include "plate/plate.h"

#include <algorithm>
#include <chrono>
#include <list>
#include <mutex>

namespace pinion {
namespace {

constexpr std::size_t kKept = 16;  // pictures in memory
constexpr std::chrono::seconds kLookAgain{1};
constexpr std::size_t kMostGaps = 100'000;

class Sequence : public MattePictures {
public:
    explicit Sequence(const std::filesystem::path& path) : path_(path.string()) {}
    const std::string& path() const override { return path_; }

    std::shared_ptr<const ImageChannel> at(int frame) const override {
        std::shared_ptr<const Plate> plate;
        {
            const std::lock_guard lock(mutex_);
            for (const auto& [kept, plane] : kept_)
                if (kept == frame) return plane;
            plate = opened();
        }
        if (!plate) return nullptr;
        // Read without the lock: the interface asks for troubles meanwhile.
        auto plane = plate->facts().holds(frame) ? read(*plate, frame) : nullptr;
        const std::lock_guard lock(mutex_);
        kept_.emplace_front(frame, plane);
        if (kept_.size() > kKept) kept_.pop_back();
        return plane;
    }

    std::string trouble(const FrameRange& range, int width, int height) const override {
        const std::lock_guard lock(mutex_);
        const auto plate = opened();
        if (!plate) return fmt::format("its pictures cannot be read: {}", plate_->error().message);
        const PlateFacts& facts = plate->facts();
        if (facts.width != width || facts.height != height)
            return fmt::format("its pictures are {}x{}, the plate is {}x{}", facts.width, facts.height, width, height);
        std::vector<int> gaps;
        for (int frame = range.first; frame <= range.last && gaps.size() < kMostGaps; ++frame)
            if (!facts.holds(frame) || std::binary_search(facts.missing.begin(), facts.missing.end(), frame))
                gaps.push_back(frame);
        if (gaps.empty()) return {};
        return fmt::format("it covers nothing on {}{}: there is no picture", frameRanges(gaps),
                           gaps.size() == kMostGaps ? " and more" : "");
    }

private:
    /// With the lock held; null when they cannot be read.
    std::shared_ptr<const Plate> opened() const {
        // What is missing is asked for at every edit: it is looked for again once in a while.
        const auto now = std::chrono::steady_clock::now();
        if (!plate_ || (!*plate_ && now - looked_ > kLookAgain)) {
            plate_ = Plate::open(path_);
            looked_ = now;
        }
        return *plate_ ? **plate_ : nullptr;
    }
    static std::shared_ptr<const ImageChannel> read(const Plate& plate, int frame) {
        if (auto alpha = plate.readAlpha(frame); alpha && *alpha)
            return std::make_shared<const ImageChannel>(std::move(**alpha));
        const auto picture = plate.read(frame);
        if (!picture) return nullptr;
        auto plane = std::make_shared<ImageChannel>((*picture)->width, (*picture)->height);
        const bool bytes = (*picture)->depth == Picture::Depth::bits8;
        for (std::size_t i = 0; i < plane->values.size(); ++i)
            plane->values[i] = bytes ? float((*picture)->bytes[3 * i]) / 255 : (*picture)->floats[3 * i];
        return plane;
    }

    std::string path_;
    mutable std::mutex mutex_;
    mutable std::optional<Expected<std::shared_ptr<const Plate>>> plate_;
    mutable std::chrono::steady_clock::time_point looked_;
    mutable std::list<std::pair<int, std::shared_ptr<const ImageChannel>>> kept_;
};

}  // namespace

std::shared_ptr<const MattePictures> matteSequence(const std::filesystem::path& path) {
    return std::make_shared<Sequence>(path);
}

std::vector<std::string> pictureTroubles(std::span<const Matte> mattes, const FrameRange& range, int width,
                                         int height) {
    std::vector<std::string> troubles;
    for (const Matte& matte : mattes)
        if (matte.pictures)
            if (std::string trouble = matte.pictures->trouble(range, width, height); !trouble.empty())
                troubles.push_back(fmt::format("{}: {}", matte.name, trouble));
    return troubles;
}

Expected<std::vector<int>> checkMatteSequence(const std::filesystem::path& path, int width, int height) {
    const auto plate = Plate::open(path);
    if (!plate) return tl::unexpected(plate.error());
    const PlateFacts& facts = (*plate)->facts();
    if (facts.kind == PlateKind::video)
        return failure(Fault::input, "{}: is a video; a matte comes as a sequence of pictures", path.string());
    if (facts.width != width || facts.height != height)
        return failure(Fault::input, "{}: is {}x{}, the plate {}x{}; render the matte at the plate's size",
                       path.string(), facts.width, facts.height, width, height);
    return facts.missing;
}

}  // namespace pinion
