#include "stages/inserts/insertsoverlay.h"

#include "canvas/marks.h"
#include "widgets/theme.h"

#include <QPainter>

#include <algorithm>
#include <cmath>

namespace pinion {
namespace {

using Eigen::Vector2d;

constexpr int kMostShown = 640;  // pixels of the art's longer side while it is dragged
constexpr double kStem = 26;     // of the turning handle, on the screen

/// The art by itself, small, for the screen.
QImage shownArt(const InsertScene& scene, const InsertScene::One& one, int frame, bool linear, ArtShelf& shelf) {
    double ratio = one.clip ? one.clip->pixelAspect * one.clip->width / one.clip->height : one.surface->widthToHeight();
    ratio = std::clamp(ratio, 0.05, 20.0);
    const int width = ratio >= 1 ? kMostShown : std::max(1, int(kMostShown * ratio)),
              height = ratio >= 1 ? std::max(1, int(kMostShown / ratio)) : kMostShown;
    const double w = width, h = height;
    Insert insert = one.insert;
    insert.placing = {};
    const ArtSource flat(insert, one.clip,
                         std::make_shared<const InsertSurface>(
                             std::vector<PlaneTie>{{frame, {Vector2d(0, 0), {w, 0}, {w, h}, {0, h}}}}));
    Layer layer = flat.bare({frame, width, height, scene.fps, linear}, shelf);
    gradeLayer(layer, one.insert.look.grade);
    QImage image(width, height, QImage::Format_ARGB32_Premultiplied);
    image.fill(Qt::transparent);
    const auto byte = [](float value) { return int(std::clamp(255 * value + 0.5F, 0.0F, 255.0F)); };
    for (int y = layer.box.y0; y < layer.box.y1; ++y)
        for (int x = layer.box.x0; x < layer.box.x1; ++x) {
            const float* p = layer.at(x, y);
            const int a = byte(p[3]);
            const auto tone = [&](int c) {
                const float shown = linear && p[3] > 0 ? p[3] * encodeSrgb(p[c] / p[3]) : p[c];
                return std::min(a, byte(shown));
            };
            image.setPixel(x, y, qRgba(tone(0), tone(1), tone(2), a));
        }
    return image;
}

QPolygonF onScreen(const PlateView& view, const Quad& corners) {
    QPolygonF polygon;
    for (const Vector2d& corner : corners)
        if (const auto at = view.screenFromPlate(corner)) polygon << *at;
    return polygon;
}

QPainter::CompositionMode modeOf(Blend blend) {
    switch (blend) {
        case Blend::multiply:
            return QPainter::CompositionMode_Multiply;
        case Blend::screen:
            return QPainter::CompositionMode_Screen;
        case Blend::add:
            return QPainter::CompositionMode_Plus;
        case Blend::overlay:
            return QPainter::CompositionMode_Overlay;
        case Blend::over:
            break;
    }
    return QPainter::CompositionMode_SourceOver;
}

}  // namespace

std::optional<QPointF> turnHandle(const PlateView& view, const Quad& corners) {
    const QPolygonF quad = onScreen(view, corners);
    if (quad.size() != 4) return std::nullopt;
    const QPointF top = (quad[0] + quad[1]) / 2, bottom = (quad[2] + quad[3]) / 2, up = top - bottom;
    const double length = std::hypot(up.x(), up.y());
    return length < 1 ? std::nullopt : std::optional(top + up / length * kStem);
}

const QImage& InsertsOverlay::artOf(const InsertScene::One& part) const {
    if (artsOf_ != hand_.scene()) arts_.clear();
    artsOf_ = hand_.scene();
    const int frame = session_.player.frame();
    // A job that goes from frame to frame is not held up by reading the clip's.
    const bool changes =
        part.insert.shows == Insert::Shows::clip && part.clip && !part.clip->still && !session_.isBusy();
    Shown& kept = arts_[part.insert.id];
    if (!kept.wanted || (changes && kept.wanted != frame)) {
        kept.wanted = frame;
        if (!kept.work) kept.work = std::make_unique<LiveWork>(session_.jobs);
        const bool linear = session_.player.picture() && session_.player.picture()->linear;
        kept.work->start([this, scene = hand_.scene(), part, frame, linear,
                          shelf = hand_.shelf()](const Progress&) -> std::function<void()> {
            const QImage art = shownArt(*scene, part, frame, linear, *shelf);
            return [this, id = part.insert.id, art] {
                arts_[id].art = art;
                emit hand_.moved();
            };
        });
    }
    return kept.art;
}

void InsertsOverlay::paintMoving(QPainter& painter, const PlateView& view, const InsertScene::One& part) const {
    const Insert& insert = part.insert;
    const auto pieces = part.surface ? hand_.piecesNow(insert) : std::vector<ArtPiece>{};
    const double opacity = opacityAt(insert, session_.player.frame());
    if (pieces.empty() || opacity <= 0) return;
    const QImage& art = artOf(part);
    if (art.isNull()) return;  // it is being read
    painter.save();
    painter.setOpacity(std::max(0.15, opacity));
    painter.setCompositionMode(modeOf(insert.look.blend));
    drawLaid(painter, view, art, pieces);
    painter.restore();
}

void InsertsOverlay::paintMissing(QPainter& painter, const PlateView& view, const Insert& insert,
                                  const Quad& corners) const {
    const QPolygonF quad = onScreen(view, corners);
    if (quad.size() != 4) return;
    painter.setPen(QPen(theme::kCoral, 1.4));
    painter.setBrush(QBrush(QColor(0xC8, 0x6A, 0x55, 140), Qt::BDiagPattern));
    painter.drawPolygon(quad);
    drawLabel(painter, quad.boundingRect().center() - QPointF(60, 8), text(insert.name) + ": its clip is missing",
              theme::kCoral);
}

void InsertsOverlay::paint(QPainter& painter, const PlateView& view) {
    const bool seen = shown || (looked && looked() == "inserts");
    if (!seen || !view.warp().isBare()) return;
    painter.setRenderHint(QPainter::Antialiasing);
    const Shot& shot = session_.shot();
    for (const Insert& insert : shot.inserts) {
        const Clip* clip = insert.shows == Insert::Shows::clip ? findClip(shot, insert.clip) : nullptr;
        if (insert.hidden || !clip || !hand_.files.isMissing(*clip)) continue;
        if (const auto corners = hand_.cornersNow(insert)) paintMissing(painter, view, insert, *corners);
    }
    for (const InsertScene::One* part : hand_.moving()) paintMoving(painter, view, *part);
    const Insert* held = hand_.held();
    if (!shown || !held) return;
    const auto corners = hand_.cornersNow(*held);
    if (!corners) return;
    painter.setBrush(Qt::NoBrush);
    const QPainterPath edge = view.line(hand_.outlineNow(*held), true);
    overShadow(painter, theme::kBrass, 1.3, [&] { painter.drawPath(edge); });
    if (const auto turn = turnHandle(view, *corners)) {
        const QPolygonF quad = onScreen(view, *corners);
        overShadow(painter, theme::kBrass, 1.0, [&] { painter.drawLine((quad[0] + quad[1]) / 2, *turn); });
        painter.setBrush(theme::kRaised);
        painter.setPen(QPen(theme::kBrass, 1.4));
        painter.drawEllipse(*turn, 5, 5);
    }
    painter.setPen(QPen(QColor(0, 0, 0, 160), 1));
    for (std::size_t i = 0; i < 4; ++i)
        if (const auto at = view.screenFromPlate((*corners)[i])) {
            painter.setBrush(i == 0 ? theme::kBrass : theme::kText);
            painter.drawRect(QRectF(at->x() - 4, at->y() - 4, 8, 8));
        }
    if (const auto first = view.screenFromPlate((*corners)[0]); first && !hand_.isDragged())
        drawLabel(painter, *first + QPointF(8, -24), text(held->name));
}

}  // namespace pinion
