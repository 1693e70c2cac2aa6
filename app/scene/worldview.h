#pragma once

#include "canvas/displaypictures.h"
#include "scene/cloudcolours.h"
#include "scene/scenecamera.h"
#include "scene/scenegeometry.h"
#include "scene/scenepainter.h"
#include "scene/scenetool.h"
#include "scene/standinpictures.h"
#include "session/session.h"

#include <QOpenGLWidget>

#include <memory>

namespace pinion {

/// Whether this machine can show the 3D view at all.
bool hasOpenGL();

/// The solved scene: cloud, camera path, the current camera with the plate in its frustum, the ground. As on the plate
/// a click or a rubber band selects and a middle drag pans; a right drag turns, the wheel zooms. Or the scene is looked
/// at through the solved camera.
class WorldView : public QOpenGLWidget {
    Q_OBJECT
public:
    enum class Colours { error, plate };

    explicit WorldView(Session& session, QWidget* parent = nullptr);
    ~WorldView() override;

    /// What the running solve has so far; null: the solve of the shot.
    void setLive(const std::shared_ptr<const SolveView>& live);
    void setThroughCamera(bool through);
    bool throughCamera() const { return through_; }
    void setLook(SceneCamera::Look look);
    SceneCamera::Look look() const { return camera_.look(); }
    void setColours(Colours colours);
    Colours colours() const { return colours_; }
    void frameAll();
    /// Edges alone of what stands in the scene.
    void setWire(bool wire);
    bool isWire() const { return wire_; }
    void addTool(std::unique_ptr<SceneTool> tool);
    /// A tool shows another shot.
    void refresh();
    SceneSight sight() const { return {clipFromWorld(), size()}; }
    /// The selected points; none selected, what a tool holds, or all.
    void frameSelection();

    /// Where a track's point lies on the widget; none when it has no point in sight.
    std::optional<QPointF> placeOf(TrackId track) const;

signals:
    void lookChanged();

protected:
    void initializeGL() override;
    void resizeGL(int, int) override {}
    void paintGL() override;
    void resizeEvent(QResizeEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;
    void wheelEvent(QWheelEvent*) override;

private:
    enum class Grip { none, select, tool, pan, orbit };

    void rebuild();
    QColor colourOf(const SolvedTrack& track) const;
    const SolvedFrame* solvedFrame() const;
    QMatrix4x4 clipFromWorld() const;
    std::optional<QMatrix4x4> throughMatrix() const;
    void drawCamera(const SolvedFrame& solved, const QMatrix4x4& clip, bool through);
    void paintOver(QPainter& painter);
    void paintWords(QPainter& painter, bool through) const;
    void paintAxes(QPainter& painter) const;
    SceneEvent eventAt(const QMouseEvent& event) const;
    /// As it is dragged.
    Shot shotNow() const;
    TrackId pointNear(const QPointF& at) const;
    void selectBand(const QRectF& band, bool adds);

    Session& session_;
    QWidget* over_;
    ScenePainter painter_;
    DisplayPictures pictures_;
    CloudColours plateColours_;
    StandInPictures standInPictures_;
    SceneCamera camera_;
    SceneGeometry scene_;
    std::shared_ptr<const SolveView> live_;
    Colours colours_ = Colours::error;
    bool stale_ = true;
    bool framed_ = false;
    bool through_ = false;
    QImage image_;
    std::vector<std::unique_ptr<SceneTool>> tools_;
    bool wire_ = false;
    Grip grip_ = Grip::none;
    SceneTool* gripped_ = nullptr;  ///< the tool whose the drag is
    QPointF from_, last_;
};

}  // namespace pinion
