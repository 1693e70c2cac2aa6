#pragma once

#include "canvas/canvas.h"
#include "stages/inserts/inserthand.h"

#include <functional>
#include <optional>

namespace pinion {

/// Places the held insert inside what carries it, without touching that: moved from inside, sized by its corners
/// (Shift: freely), turned by the handle above it. A press on another insert takes that.
class PlaceInsertTool : public Tool {
public:
    PlaceInsertTool(Session& session, InsertHand& hand, Canvas& canvas)
        : session_(session), hand_(hand), canvas_(canvas) {}
    QString name() const override { return "insert"; }
    Qt::CursorShape cursor() const override { return Qt::ArrowCursor; }
    void press(const CanvasEvent& event) override;
    void drag(const CanvasEvent& event) override;
    void release(const CanvasEvent& event) override;
    void nudge(const Eigen::Vector2d& by) override;
    bool remove() override;
    bool removes() const override { return hand_.held() != nullptr; }
    void putDown() override;

private:
    enum class Part { all, corner, turn };
    bool takeAnother(const CanvasEvent& event);

    Session& session_;
    InsertHand& hand_;
    Canvas& canvas_;
    std::optional<Placing> start_;
    Part grip_ = Part::all;
    std::size_t corner_ = 0;
    Eigen::Vector2d from_{0, 0};  ///< inside the carrier
};

/// Moves the held insert's corners one by one, on top of its track, under a loupe.
class TrimInsertTool : public Tool {
public:
    TrimInsertTool(Session& session, InsertHand& hand, Canvas& canvas)
        : session_(session), hand_(hand), canvas_(canvas) {}
    QString name() const override { return "insert corners"; }
    void press(const CanvasEvent& event) override;
    void drag(const CanvasEvent& event) override;
    void release(const CanvasEvent& event) override;
    void nudge(const Eigen::Vector2d& by) override;
    void putDown() override;
    void paint(QPainter& painter, const PlateView& view) override;

private:
    Session& session_;
    InsertHand& hand_;
    Canvas& canvas_;
    std::optional<Placing> start_;
    std::optional<std::size_t> corner_;  ///< that is dragged, or was last
    Eigen::Vector2d from_{0, 0};
    QPointF at_;
};

/// Drags a rectangle on the plate, or picks one place, for what is asked of it.
class AreaForInsertTool : public Tool {
public:
    AreaForInsertTool(const QString& name, const QString& words) : name_(name), words_(words) {}
    QString name() const override { return name_; }
    void press(const CanvasEvent& event) override;
    void drag(const CanvasEvent& event) override;
    void release(const CanvasEvent& event) override;
    bool hover(const CanvasEvent& event) override;
    void leave() override { hovered_ = false; }
    void putDown() override { from_.reset(); }
    void paint(QPainter& painter, const PlateView& view) override;

    /// The rectangle's two corners; the same place twice for a click.
    std::function<void(const Eigen::Vector2d& from, const Eigen::Vector2d& to)> chosen;

private:
    QString name_, words_;
    std::optional<Eigen::Vector2d> from_, to_;
    QPointF start_, at_;
    bool hovered_ = false;
};

}  // namespace pinion
