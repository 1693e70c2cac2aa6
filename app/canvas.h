#pragma once

#include "platemapping.h"
#include "workspace.h"

#include <QImage>
#include <QWidget>

#include <optional>

namespace pinion {

enum class Tool { select, place, outline, area };

/// What the canvas shows of the plate: as it is; steadied or shaken; both, parted by a line or beside each other.
enum class Shown { plate, steady, wipe, beside };

/// The plate with everything that lies on it. Tools turn mouse and keys into edits of the workspace.
class Canvas : public QWidget {
    Q_OBJECT
public:
    explicit Canvas(Workspace& workspace, QWidget* parent = nullptr);

    Tool tool() const { return tool_; }
    void setTool(Tool tool);
    const PlateMapping& mapping() const { return mapping_; }
    Shown shown() const { return shown_; }
    void setShown(Shown shown);
    /// Closes the outline that is being drawn; it becomes the selected track's.
    void finishOutline();
    void dropOutline();
    /// What the place tool says of the spot under the cursor; empty while it is not known.
    QString advice() const { return adviceText_; }
    /// Where the handles of the selected track are on the screen: four corners of the pattern, four sides of the
    /// search.
    std::vector<QPointF> patternHandles() const;
    std::vector<QPointF> searchHandles() const;
    QPointF wipeHandle() const;
    void fit();
    void zoomTo(double zoom);
    /// While false only the bare picture is drawn.
    void setOverlays(bool shown);
    void setGrid(bool shown);
    bool gridShown() const { return gridShown_; }
    /// Moves the selected track by hand, in pixels of the plate.
    void nudge(const Eigen::Vector2d& by);

    /// The rows of the empty start, and what each opens.
    const std::vector<std::pair<QRectF, QString>>& recentRows() const { return recentRows_; }

signals:
    void openAsked(const QString& path);  ///< a shot or plate of the empty start
    void shownChanged();
    void toolChanged(Tool tool);
    void pointed(const QString& text);  ///< zoom, place and colour under the cursor

protected:
    void paintEvent(QPaintEvent*) override;
    void resizeEvent(QResizeEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;
    void mouseDoubleClickEvent(QMouseEvent*) override;
    void wheelEvent(QWheelEvent*) override;
    void leaveEvent(QEvent*) override;

private:
    void updateSizes();
    const QImage& image();
    TrackId trackNear(const QPointF& at) const;
    std::optional<Eigen::Vector2d> placeOf(const Track& track) const;
    void refreshMapping();
    const Track* handled() const;  ///< the one selected track whose choices can be dragged here
    void updateAdvice();
    void dragHandle(const QPointF& to);
    void paintPicture(QPainter& painter);
    void paintShownNote(QPainter& painter);
    void paintOutline(QPainter& painter);
    void paintProposals(QPainter& painter);
    void paintAdvice(QPainter& painter);
    void paintHandles(QPainter& painter);
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

    Shown shown_ = Shown::plate;
    double wipe_ = 0.5;                        ///< share of the canvas's width
    std::optional<Eigen::Vector2d> followAt_;  ///< where the followed track is held
    TrackId followedTrack_ = 0;
    std::vector<Eigen::Vector2d> outline_;  ///< being drawn, in pixels of the plate
    std::shared_ptr<const Pyramid> advicePyramid_;
    double adviceGrain_ = 0;
    int adviceFrame_ = 0;
    int adviceWanted_ = 0;
    SpotAdvice advice_;
    QString adviceText_;

    enum class Drag { none, pan, place, move, band, pattern, search, offset, wipe, area };
    Drag drag_ = Drag::none;
    QPointF dragFrom_;
    bool bandOnTrack_ = false;  ///< the press of a rubber band chose a track, which a click keeps
    QStringList recent_;        ///< what was open last, as it was when the window opened
    std::vector<std::pair<QRectF, QString>> recentRows_;  ///< of the empty start
    QPointF cursor_;
    bool cursorInside_ = false;
    TrackId dragged_ = 0;
    Eigen::Vector2d draggedTo_{0, 0};
    int draggedPattern_ = 0;  ///< sizes while a handle is dragged
    int draggedSearch_ = 0;
    TrackId hovered_ = 0;
};

}  // namespace pinion
