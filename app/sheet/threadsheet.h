#pragma once

#include "session/session.h"
#include "sheet/strip.h"

#include <QWidget>

#include <map>
#include <memory>
#include <optional>
#include <vector>

namespace pinion {

/// Tracks as rows, frames as columns, each cell shaded by how well it fits there; above them the tracks per frame with
/// the floor of 8, below them the ruler with the range handles and the playhead.
class ThreadSheet : public QWidget {
    Q_OBJECT
public:
    enum class Order { start, length, error, name };

    explicit ThreadSheet(Session& session, QWidget* parent = nullptr);
    void setOrder(Order order);
    Order order() const { return order_; }
    /// Only tracks whose name or group holds all words of `text` are listed.
    void setFilter(const QString& text);
    std::size_t listed() const { return rows_.size(); }
    /// The frames of the last rubber band; none when it was only a click.
    std::optional<FrameRange> marked() const { return marked_; }
    int rowHeight() const;

    /// Strips are stacked above the counts, in the order they are added.
    void addStrip(std::unique_ptr<SheetStrip> strip);
    /// A strip has changed, or its height.
    void refreshStrips();
    QRect stripRect(std::size_t index) const;

    static constexpr int kNames = 108;  ///< width of the column of names
    static constexpr int kRight = 14;   ///< room at the right
    double cellWidth() const;           ///< of one frame
    /// Where a frame's middle lies, and which frame lies at x.
    double xOfFrame(double frame) const;
    int frameAtX(double x) const;
    QRect rulerRect() const;
    QRect rowsRect() const;

protected:
    void paintEvent(QPaintEvent*) override;
    void resizeEvent(QResizeEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;
    void leaveEvent(QEvent*) override;
    void wheelEvent(QWheelEvent*) override;

private:
    void rebuildRows();
    void clampScroll();
    void paintCounts(QPainter& painter, const QRect& area);
    void paintBand(QPainter& painter);
    std::optional<std::size_t> stripAt(const QPointF& at) const;
    StripEvent onStrip(std::size_t strip, const QPointF& at, Qt::KeyboardModifiers modifiers) const;
    int rowAt(double y) const;
    QString whatIsAt(const QPointF& at) const;
    void paintRuler(QPainter& painter, const QRect& area);
    void paintRows(QPainter& painter, const QRect& area);
    void paintName(QPainter& painter, const Track& track, int y) const;
    void paintCells(QPainter& painter, const Track& track, int y) const;
    void paintTies(QPainter& painter, const Track& track, int y) const;
    void scrollToSelection();

    Session& session_;
    Order order_ = Order::start;
    std::vector<std::unique_ptr<SheetStrip>> strips_;
    std::optional<std::size_t> draggedStrip_;  ///< that has taken a press
    std::vector<std::size_t> rows_;            ///< indices into the shot's tracks
    std::vector<int> counts_;
    FrameRange countedRange_;
    List<Track> shownTracks_;
    std::shared_ptr<const Solve> shownSolve_;
    std::map<TrackId, double> errors_;
    int scroll_ = 0;
    QString filter_;
    std::optional<FrameRange> marked_;
    QPointF bandFrom_;
    QPointF cursor_;
    enum class Drag { none, playhead, first, last, band };
    Drag drag_ = Drag::none;
    FrameRange dragRange_;
};

}  // namespace pinion
