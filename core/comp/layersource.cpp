#include "comp/layersource.h"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace pinion {

void noteOnce(std::vector<std::string>* problems, std::string words) {
    if (problems && std::find(problems->begin(), problems->end(), words) == problems->end())
        problems->push_back(std::move(words));
}

ArtSource::ArtSource(Insert insert, std::optional<Clip> clip, std::shared_ptr<const InsertSurface> surface)
    : insert_(std::move(insert)), clip_(std::move(clip)), surface_(std::move(surface)) {}

std::shared_ptr<const Art> ArtSource::artOn(const LayerWish& wish, ArtShelf& shelf,
                                            std::vector<std::string>* problems) const {
    const Quad inside = placedInside(insert_.placing, surface_->widthToHeight());
    const double ratio =
        surface_->widthToHeight() * (inside[1] - inside[0]).norm() / std::max(1e-6, (inside[3] - inside[0]).norm());
    if (insert_.shows == Insert::Shows::test) return shelf.test(ratio, wish.linear);
    if (insert_.shows == Insert::Shows::colour) return shelf.plain(insert_.colour, ratio, wish.linear);
    if (!clip_) {
        noteOnce(problems, fmt::format("{}: its clip is not in the list any more", insert_.name));
        return nullptr;
    }
    const auto shown = clipFrameAt(insert_.time, *clip_, wish.frame, wish.fps);
    if (!shown) return nullptr;
    auto art = shelf.art(*clip_, *shown, wish.linear, insert_.key);
    if (art) return *art;
    noteOnce(problems, fmt::format("{}: {}", insert_.name, art.error().message));
    // A broken frame is stood in for by its neighbours; a missing file has none.
    for (int away = 1; away <= 8 && shelf.open(*clip_); ++away)
        for (const int other : {*shown - away, *shown + away})
            if (clip_->frames.holds(other))
                if (const auto stands = shelf.art(*clip_, other, wish.linear, insert_.key)) return *stands;
    return nullptr;
}

double ArtSource::shareOn(int frame) const {
    if (insert_.lost != Insert::Lost::fades) return 1;
    return std::max(0.0, 1 - surface_->away(frame) / double(std::max(1, insert_.fadeFrames)));
}

std::vector<std::vector<ArtPiece>> ArtSource::piecesOn(int frame) const {
    if (shareOn(frame) <= 0) return {};
    return surface_->pieces(insert_.placing, frame, insert_.shutter, insert_.lost != Insert::Lost::ends);
}

Layer ArtSource::laid(const LayerWish& wish, ArtShelf& shelf, std::vector<std::string>* problems) const {
    const auto pieces = piecesOn(wish.frame);
    const auto art = pieces.empty() ? nullptr : artOn(wish, shelf, problems);
    return art ? art->laid(pieces, wish.width, wish.height, insert_.shape, wish.margin) : Layer{};
}

Layer ArtSource::bare(const LayerWish& wish, ArtShelf& shelf) const {
    const auto pieces = piecesOn(wish.frame);
    const auto art = pieces.empty() ? nullptr : artOn(wish, shelf, nullptr);
    return art ? art->laid(std::span(&pieces[pieces.size() / 2], 1), wish.width, wish.height, insert_.shape) : Layer{};
}

PixelBox ArtSource::boxOn(int frame, int width, int height) const {
    double x0 = 1e9, y0 = 1e9, x1 = -1e9, y1 = -1e9;
    for (const auto& pieces : piecesOn(frame))
        for (const ArtPiece& piece : pieces)
            for (const Eigen::Vector2d& corner : piece.corners) {
                x0 = std::min(x0, corner.x() - 1);
                y0 = std::min(y0, corner.y() - 1);
                x1 = std::max(x1, corner.x() + 1);
                y1 = std::max(y1, corner.y() + 1);
            }
    const auto within = [](double value, int most) { return int(std::clamp(value, -1e6, double(most) + 1e6)); };
    if (x0 > x1) return {};
    return {within(std::floor(x0), width), within(std::floor(y0), height), within(std::ceil(x1), width),
            within(std::ceil(y1), height)};
}

}  // namespace pinion
