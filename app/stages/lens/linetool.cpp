#include "stages/lens/linetool.h"

#include "canvas/canvas.h"
#include "canvas/marks.h"
#include "lens/edges.h"
#include "shot/edits/lensedits.h"

#include <QLineF>
#include <QPainter>

#include <algorithm>

namespace pinion {
namespace {

using Eigen::Vector2d;

constexpr double kGrab = 8.0;  // screen pixels within which a press means a place that is there

}  // namespace

std::optional<std::size_t> LineTool::line() const {
    const auto& lines = session_.shot().lens.lines;
    if (touched_ && *touched_ < lines.size()) return touched_;
    return std::nullopt;
}

std::optional<LineTool::Grip> LineTool::gripNear(const QPointF& at) const {
    std::optional<Grip> found;
    double best = kGrab;
    const auto& lines = session_.shot().lens.lines;
    for (std::size_t i = 0; i < lines.size(); ++i) {
        if (lines[i].frame != session_.player.frame()) continue;
        for (std::size_t k = 0; k < lines[i].clicks.size(); ++k) {
            const auto screen = canvas_.view().screenFromPlate(lines[i].clicks[k]);
            if (!screen) continue;
            const double distance = QLineF(*screen, at).length();
            if (distance < best) {
                best = distance;
                found = Grip{i, k};
            }
        }
    }
    return found;
}

bool LineTool::mayDraw() {
    if (!session_.isBusy()) return true;
    session_.say("A job is running. Stop it or wait to draw lines.");
    return false;
}

void LineTool::snap(LensLine& line) {
    line.edge = {};
    if (!session_.shot().lens.snap || line.clicks.size() < 2) return;
    const PicturePtr picture = session_.player.picture();
    if (!picture || session_.player.pictureFrame() != line.frame) return;
    const bool ready = plane_.key() == picture && plane_.value() && !plane_.isPending();
    SnappedLine on = snapped(ready ? *plane_.value() : analysisPlane(*picture), line.clicks.vector());
    line.clicks = List<Vector2d>(std::move(on.clicks));
    line.edge = List<Vector2d>(std::move(on.edge));
}

template <class Change>
void LineTool::edit(const QString& name, Change change, bool snaps, bool amends) {
    std::vector<LensLine> lines = session_.shot().lens.lines.vector();
    change(lines);
    if (snaps && touched_ && *touched_ < lines.size()) snap(lines[*touched_]);
    Shot shot = withLensLines(session_.shot(), std::move(lines));
    if (amends) session_.document.amend(std::move(shot));
    else session_.edit(name, std::move(shot));
}

void LineTool::addPoint(const Vector2d& at) {
    const int frame = session_.player.frame();
    const auto held = line();
    const bool goesOn = open_ && held && session_.shot().lens.lines[*held].frame == frame;
    if (!goesOn) {
        touched_ = session_.shot().lens.lines.size();
        point_ = 0;
        open_ = true;
        edit(
            "Begin a line",
            [&](auto& lines) {
                lines.push_back({frame, List<Vector2d>(std::vector<Vector2d>{at}), {}});
            },
            false);
        return;
    }
    edit(
        "Add to a line",
        [&](auto& lines) {
            LensLine& one = lines[*held];
            std::vector<Vector2d> clicks = one.clicks.vector();
            // In order along the line: between two places, or beyond an end.
            std::size_t place = clicks.size();
            if (clicks.size() >= 2) {
                const Vector2d along = clicks.back() - clicks.front();
                const auto positionOf = [&](const Vector2d& p) { return along.dot(p - clicks.front()); };
                place = std::size_t(std::count_if(clicks.begin(), clicks.end(),
                                                  [&](const Vector2d& p) { return positionOf(p) < positionOf(at); }));
            }
            clicks.insert(clicks.begin() + std::ptrdiff_t(place), at);
            point_ = place;
            one.clicks = List<Vector2d>(std::move(clicks));
        },
        true);
}

void LineTool::press(const CanvasEvent& event) {
    at_ = event.at;
    dragged_ = false;
    grip_ = gripNear(event.at);
    if (grip_) {
        if (!mayDraw()) {
            grip_.reset();
            return;
        }
        if (open_ && touched_ != grip_->line) open_ = false;
        touched_ = grip_->line;
        point_ = grip_->point;
        if (event.modifiers & Qt::ControlModifier) {
            const Grip gone = *grip_;
            grip_.reset();
            edit(
                "Take a place out of a line",
                [&](auto& lines) {
                    LensLine& one = lines[gone.line];
                    one.clicks = one.clicks.edited(
                        [&](auto& clicks) { clicks.erase(clicks.begin() + std::ptrdiff_t(gone.point)); });
                    if (one.clicks.isEmpty()) lines.erase(lines.begin() + std::ptrdiff_t(gone.line));
                },
                true);
        }
        return;
    }
    const QSizeF plate = canvas_.view().plateSize();
    if (!event.plate || !QRectF(QPointF(0, 0), plate).contains(event.plate->x(), event.plate->y())) {
        session_.say("Outside the plate. Click along something straight inside it.");
        return;
    }
    if (mayDraw()) addPoint(*event.plate);
}

void LineTool::drag(const CanvasEvent& event) {
    at_ = event.at;
    if (!grip_) return;
    const auto at = canvas_.view().withinPlate(event.at);
    if (!at) return;
    const Grip grip = *grip_;
    edit(
        "Move a place of a line",
        [&](auto& lines) {
            LensLine& one = lines[grip.line];
            one.clicks = one.clicks.edited([&](auto& clicks) { clicks[grip.point] = *at; });
            one.edge = {};
        },
        false, dragged_);
    dragged_ = true;
}

void LineTool::release(const CanvasEvent& event) {
    at_ = event.at;
    if (grip_ && dragged_)
        edit(
            {}, [](auto&) {}, true, true);
    grip_.reset();
    dragged_ = false;
}

void LineTool::doubleClick(const CanvasEvent& event) {
    // Its first press has added the last place already.
    at_ = event.at;
    if (open_) endLine();
    else press(event);
}

void LineTool::endLine() {
    const auto held = line();
    if (open_ && held && session_.shot().lens.lines[*held].clicks.size() < 2) removeLine();
    open_ = false;
    grip_.reset();
    canvas_.update();
}

void LineTool::removeLast() {
    const auto held = line();
    if (!held) return;
    if (session_.shot().lens.lines[*held].clicks.size() <= 1) {
        removeLine();
        return;
    }
    edit(
        "Take a place out of a line",
        [&](auto& lines) {
            LensLine& one = lines[*held];
            const std::size_t gone = std::min(point_, one.clicks.size() - 1);
            one.clicks = one.clicks.edited([&](auto& clicks) { clicks.erase(clicks.begin() + std::ptrdiff_t(gone)); });
            point_ = one.clicks.size() - 1;
        },
        true);
}

void LineTool::removeLine() {
    const auto held = line();
    if (!held) return;
    edit(
        "Remove a line", [&](auto& lines) { lines.erase(lines.begin() + std::ptrdiff_t(*held)); }, false);
    touched_.reset();
    open_ = false;
}

bool LineTool::hover(const CanvasEvent& event) {
    at_ = event.at;
    if (const PicturePtr picture = session_.player.picture(); picture && session_.shot().lens.snap)
        plane_.want(picture, [picture](const Progress&) -> Expected<ImageChannel> { return analysisPlane(*picture); });
    const auto near = gripNear(event.at);
    const bool changed = near.has_value() != hovered_.has_value() ||
                         (near && (near->line != hovered_->line || near->point != hovered_->point));
    hovered_ = near;
    return changed || open_;
}

void LineTool::leave() { hovered_.reset(); }

void LineTool::refresh() { hovered_.reset(); }

void LineTool::nudge(const Vector2d& by) {
    const auto held = line();
    if (!held || !mayDraw()) return;
    if (session_.shot().lens.lines[*held].frame != session_.player.frame()) return;
    // By hand means as it is put: no edge pulls it back.
    edit(
        "Nudge a place of a line",
        [&](auto& lines) {
            LensLine& one = lines[*held];
            one.clicks = one.clicks.edited([&](auto& clicks) { clicks[std::min(point_, clicks.size() - 1)] += by; });
            one.edge = {};
        },
        false);
}

void LineTool::paint(QPainter& painter, const PlateView& view) {
    const auto& lines = session_.shot().lens.lines;
    const auto held = line();
    if (open_ && held && lines[*held].frame == session_.player.frame() && !grip_) {
        const auto last = view.screenFromPlate(lines[*held].clicks.back());
        if (last && canvas_.cursorPlace()) {
            painter.setPen(QPen(QColor(255, 255, 255, 120), 1, Qt::DashLine));
            painter.drawLine(*last, at_);
        }
    }
    const auto marked = grip_ ? grip_ : hovered_;
    if (marked && marked->line < lines.size() && marked->point < lines[marked->line].clicks.size())
        if (const auto at = view.screenFromPlate(lines[marked->line].clicks[marked->point])) {
            painter.setBrush(Qt::NoBrush);
            painter.setPen(QPen(theme::kBrass, 1.5));
            painter.drawEllipse(*at, 7, 7);
        }
    if (grip_ && dragged_ && grip_->line < lines.size()) {
        const Vector2d at = lines[grip_->line].clicks[grip_->point];
        drawLoupe(painter, canvas_.image(), {at.x(), at.y()}, at_, canvas_.size());
    }
}

}  // namespace pinion
