#pragma once

#include "workspace.h"

#include <QMatrix4x4>
#include <QOpenGLBuffer>
#include <QOpenGLFunctions_3_3_Core>
#include <QOpenGLShaderProgram>
#include <QOpenGLTexture>
#include <QOpenGLVertexArrayObject>
#include <QOpenGLWidget>

#include <memory>

namespace pinion {

/// Whether this machine can show the 3D view at all.
bool hasOpenGL();

/// The solved scene: cloud, camera path, the current camera with the plate in its frustum, the ground. Left drag
/// orbits, middle drag pans, wheel zooms; or the scene is looked at through the solved camera.
class WorldView : public QOpenGLWidget, protected QOpenGLFunctions_3_3_Core {
    Q_OBJECT
public:
    explicit WorldView(Workspace& workspace, QWidget* parent = nullptr);
    ~WorldView() override;

    void setThroughCamera(bool through);
    bool throughCamera() const { return through_; }
    void frameAll();

protected:
    void initializeGL() override;
    void resizeGL(int, int) override {}
    void paintGL() override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void wheelEvent(QWheelEvent*) override;

private:
    struct Vertex {
        float x, y, z;
        float r, g, b, a;
    };
    void rebuild();
    void rebuildLive(const SolveView& view);
    void draw(const std::vector<Vertex>& vertices, GLenum mode, const QMatrix4x4& clipFromWorld, float size);
    void drawPlate(const QMatrix4x4& clipFromWorld, const std::vector<Vertex>& quad);
    QMatrix4x4 orbitMatrix() const;
    std::optional<QMatrix4x4> cameraMatrix() const;

    Workspace& workspace_;
    std::unique_ptr<QOpenGLShaderProgram> program_;
    std::unique_ptr<QOpenGLShaderProgram> plateProgram_;
    QOpenGLBuffer buffer_;
    QOpenGLVertexArrayObject array_;
    std::unique_ptr<QOpenGLTexture> texture_;
    PicturePtr textureOf_;
    bool stale_ = true;
    bool framed_ = false;
    bool through_ = false;
    std::vector<Vertex> cloud_, path_, grid_;
    Eigen::Vector3d target_{0, 0, 0};
    double distance_ = 14;
    double yaw_ = 0.6;
    double pitch_ = 0.45;
    double size_ = 10;
    QPointF last_;
};

}  // namespace pinion
