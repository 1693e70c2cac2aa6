#pragma once

#include "canvas/displaypictures.h"
#include "canvas/emptystart.h"
#include "canvas/overlay.h"
#include "canvas/plateview.h"
#include "canvas/sight.h"
#include "canvas/tool.h"
#include "session/session.h"

#include <QImage>
#include <QStringList>
#include <QWidget>

#include <deque>
#include <memory>
#include <optional>
#include <utility>
#include <vector>

namespace pinion {

/// The plate with everything that lies on it. Stages furnish it with tools, overlays and sights; it owns them, and the
/// tool that is in hand.
class Canvas : public QWidget {
    Q_OBJECT
public:
    explicit Canvas(Session& session, QWidget* parent = nullptr);
    ~Canvas() override;

    void addOverlay(std::unique_ptr<Overlay> overlay);
    /// Until one is taken, the tool named "select" is in hand.
    void addTool(std::unique_ptr<Tool> tool);
    Sight* addSight(std::unique_ptr<Sight> sight);

    void takeTool(const QString& name);
    const QString& toolInHand() const { return toolName_; }
    /// Puts down what the tool has begun.
    void putDown();

    /// The sight that is shown, by its name; none: the plate as filmed, or held by `setHold`.
    void look(const QString& sight, Compare compare);
    QString sight() const { return sight_ ? sight_->name() : QString(); }
    Compare compare() const { return compare_; }
    /// The names of the sights that can be looked at.
    QStringList sights() const;
    /// How the plate as filmed lies while something is held still in it; null: not held.
    void setHold(Sight* hold);
    /// A sight has changed by itself.
    void refreshView();

    /// The sight that is looked at, or by which something is held; null: the plate as filmed.
    const Sight* shownSight() const { return sight_ ? sight_ : hold_; }
    const PlateView& view() const { return view_; }
    /// The picture that is shown, ready for the screen.
    const QImage& image() const { return image_; }
    int imageFrame() const { return imageFrame_; }
    /// Whether what is shown is of the player's frame, and as the sight would have it: nothing is still being made.
    bool isUpToDate() const;
    /// What the sight that is looked at has made of it; null while it is being made, or where it makes none.
    const QImage& renderedImage() const { return rendered_; }
    QPointF wipeHandle() const { return {wipe_ * width(), height() / 2.0}; }
    std::optional<QPointF> cursorPlace() const { return cursorInside_ ? std::optional(cursor_) : std::nullopt; }

    void fit();
    void zoomTo(double zoom);
    /// The width of a pixel for its height, for the eye.
    void setPixelAspect(double aspect);
    /// While false only the bare picture is drawn.
    void setOverlays(bool shown);
    /// Moves what the tool holds, in pixels of the plate.
    void nudge(const Eigen::Vector2d& by);

    /// The rows of the empty start, and what each opens.
    const std::vector<std::pair<QRectF, QString>>& recentRows() const { return empty_.rows(); }

signals:
    void openAsked(const QString& path);  ///< a shot or plate of the empty start
    void toolChanged(const QString& name);
    void looked();                       ///< another sight, or none
    void pointed(const QString& words);  ///< zoom, place and colour under the cursor

protected:
    void paintEvent(QPaintEvent*) override;
    void resizeEvent(QResizeEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;
    void mouseDoubleClickEvent(QMouseEvent*) override;
    void wheelEvent(QWheelEvent*) override;
    void leaveEvent(QEvent*) override;
    bool event(QEvent*) override;
    void keyPressEvent(QKeyEvent*) override;

private:
    enum class Grip { none, pan, wipe, tool };

    Tool* tool() const;
    CanvasEvent eventAt(const QPointF& at, Qt::KeyboardModifiers modifiers) const;
    bool onWipe(const QPointF& at) const;
    bool showsPlate() const { return !shownSight() || shownSight()->isOfPlate(); }
    bool toolsWork() const { return session_.shot().plate.isOpen() && compare_ != Compare::beside && showsPlate(); }
    void updateSizes();
    /// How the plate lies on the frame that is shown, and what makes its picture; whether that is another than before.
    bool aim();
    void lookAnew();
    void refreshImage();
    QImage lastRendered() const;
    void paintPicture(QPainter& painter);
    void paintOne(QPainter& painter, const QRectF& area, bool filmed, const QPointF& by);
    void paintMarks(QPainter& painter);
    void paintSightNote(QPainter& painter);
    void paintProblem(QPainter& painter);
    void reportPointed();

    Session& session_;
    PlateView view_;
    DisplayPictures pictures_;
    EmptyStart empty_;
    QImage image_;
    int imageFrame_ = 0;
    QImage rendered_;  ///< by `rendering_`
    std::shared_ptr<const Rendering> rendering_;
    PicturePtr aimedAt_;                                                          ///< by `rendering_`
    std::deque<std::pair<PicturePtr, std::shared_ptr<const Rendering>>> before_;  ///< the latest first
    std::vector<std::unique_ptr<Overlay>> overlays_;
    std::vector<std::unique_ptr<Tool>> tools_;
    std::vector<std::unique_ptr<Sight>> sights_;
    QString toolName_ = "select";
    Sight* sight_ = nullptr;
    Sight* hold_ = nullptr;
    Compare compare_ = Compare::none;
    bool overlaysShown_ = true;
    double wipe_ = 0.5;  ///< share of the canvas's width
    Grip grip_ = Grip::none;
    QPointF cursor_;
    bool cursorInside_ = false;
};

}  // namespace pinion
