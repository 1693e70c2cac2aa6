#include "plate/still.h"

#include "plate/sources.h"

#include <cctype>

namespace pinion {
namespace {

namespace fs = std::filesystem;

class StillPlate final : public Plate {
public:
    StillPlate(PlateFacts facts, PicturePtr picture, std::optional<ImageChannel> alpha)
        : picture_(std::move(picture)), alpha_(std::move(alpha)) {
        facts_ = std::move(facts);
    }
    Expected<PicturePtr> read(int) const override { return picture_; }
    Expected<std::optional<ImageChannel>> readAlpha(int) const override { return alpha_; }

private:
    PicturePtr picture_;
    std::optional<ImageChannel> alpha_;
};

}  // namespace

bool isStillPicture(const fs::path& path) {
    std::error_code code;
    const std::string stem = path.stem().string();
    return fs::is_regular_file(path, code) && isPictureName(path) && !stem.empty() &&
           !std::isdigit(static_cast<unsigned char>(stem.back()));
}

Expected<std::shared_ptr<const Plate>> openStill(const fs::path& path, int first, int last) {
    const auto plate = openPicture(path, first);
    if (!plate) return tl::unexpected(plate.error());
    auto picture = (*plate)->read(first);
    if (!picture) return tl::unexpected(picture.error());
    auto alpha = (*plate)->readAlpha(first);
    if (!alpha) return tl::unexpected(alpha.error());
    PlateFacts facts = (*plate)->facts();
    facts.lastFrame = last;
    return std::make_shared<const StillPlate>(std::move(facts), *picture, *std::move(alpha));
}

}  // namespace pinion
