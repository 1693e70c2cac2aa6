#include "plate/still.h"

#include <OpenImageIO/imageio.h>
#include <array>
#include <cctype>

namespace pinion {
namespace {

namespace fs = std::filesystem;

class StillPlate final : public Plate {
public:
    StillPlate(const fs::path& path, int first, int last, PicturePtr picture, std::optional<Plane> alpha)
        : picture_(std::move(picture)), alpha_(std::move(alpha)) {
        facts_.path = path;
        facts_.kind = PlateKind::sequence;
        facts_.width = picture_->width;
        facts_.height = picture_->height;
        facts_.firstFrame = first;
        facts_.lastFrame = last;
        facts_.linear = picture_->linear;
    }
    Expected<PicturePtr> read(int) const override { return picture_; }
    Expected<std::optional<Plane>> readAlpha(int) const override { return alpha_; }

private:
    PicturePtr picture_;
    std::optional<Plane> alpha_;
};

std::optional<Plane> alphaOf(const fs::path& path) {
    const auto input = OIIO::ImageInput::open(path.string());
    if (!input || input->spec().alpha_channel < 0) return std::nullopt;
    const OIIO::ImageSpec spec = input->spec();
    Plane plane(spec.width, spec.height);
    if (!input->read_image(0, 0, spec.alpha_channel, spec.alpha_channel + 1, OIIO::TypeDesc::FLOAT,
                           plane.values.data()))
        return std::nullopt;
    return plane;
}

}  // namespace

bool isStillPicture(const fs::path& path) {
    constexpr std::array kEndings{".png", ".tif", ".tiff", ".exr", ".jpg", ".jpeg"};
    const std::string stem = path.stem().string(), ending = path.extension().string();
    std::error_code code;
    return fs::is_regular_file(path, code) && !stem.empty() && !std::isdigit(static_cast<unsigned char>(stem.back())) &&
           std::find(kEndings.begin(), kEndings.end(), ending) != kEndings.end();
}

Expected<std::shared_ptr<const Plate>> openStill(const fs::path& path, int first, int last) {
    auto picture = readStill(path);
    if (!picture) return tl::unexpected(picture.error());
    return std::make_shared<const StillPlate>(path, first, last, *picture, alphaOf(path));
}

}  // namespace pinion
