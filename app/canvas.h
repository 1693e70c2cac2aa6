#pragma once

#include "platemapping.h"
#include "workspace.h"

#include <QImage>
#include <QWidget>

#include <optional>

namespace pinion {

enum class Tool { select, place };

/// The plate with everything that lies on it. Tools turn mouse and keys into edits of the workspace.
class Canvas : public QWidget {
    Q_OBJECT
public:
    explicit Canvas(Workspace& workspace, QWidget* parent = nullptr);

    Tool tool() const { return tool_; }
    void setTool(Tool tool);
    const PlateMapping& mapping() const { return mapping_; }
    void fit();
    void zoomTo(double zoom);
    /// While false only the bare picture is drawn.
    void setOverlays(bool shown);
    void setGrid(bool shown);
    bool gridShown() const { return gridShown_; }
    /// Moves the selected track by hand, in pixels of the plate.
    void nudge(const Eigen::Vector2d& by);

signals:
    void toolChanged(Tool tool);
    void pointed(const QString& text);  ///< zoom, place and colour under the cursor

protected:
    void paintEvent(QPaintEvent*) override;
    void resizeEvent(QResizeEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;
    void wheelEvent(QWheelEvent*) override;
    void leaveEvent(QEvent*) override;

private:
    void updateSizes();
    const QImage& image();
    TrackId trackNear(const QPointF& at) const;
    std::optional<Eigen::Vector2d> placeOf(const Track& track) const;
    void paintTracks(QPainter& painter);
    void paintTrack(QPainter& painter, const Track& track, const QPointF& at, bool selected, const QColor& colour);
    void paintTrail(QPainter& painter, const Track& track, const QColor& colour);
    void paintAreas(QPainter& painter, const Track& track, const Eigen::Vector2d& at);
    void paintGrid(QPainter& painter);
    void paintLoupe(QPainter& painter);
    void paintEmpty(QPainter& painter);
    void reportPointed();

    Workspace& workspace_;
    PlateMapping mapping_;
    Tool tool_ = Tool::select;
    bool overlays_ = true;
    bool gridShown_ = true;
    QImage image_;
    PicturePtr imageOf_;
    ViewTransform imageView_;

    enum class Drag { none, pan, place, move, band };
    Drag drag_ = Drag::none;
    QPointF dragFrom_;
    QPointF cursor_;
    bool cursorInside_ = false;
    TrackId dragged_ = 0;
    Eigen::Vector2d draggedTo_{0, 0};
    TrackId hovered_ = 0;
};

}  // namespace pinion
