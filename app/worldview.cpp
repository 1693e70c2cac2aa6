#include "worldview.h"

#include "shot/stages/worldstage.h"
#include "theme.h"

#include <QMouseEvent>
#include <QOffscreenSurface>
#include <QOpenGLContext>
#include <QPainter>
#include <QWheelEvent>

#include <algorithm>
#include <cmath>

namespace pinion {
namespace {

using Eigen::Vector3d;

const char* const kVertexShader = R"(#version 330 core
layout(location = 0) in vec3 place;
layout(location = 1) in vec4 colour;
uniform mat4 clipFromWorld;
uniform float size;
out vec4 shade;
void main() { gl_Position = clipFromWorld * vec4(place, 1.0); gl_PointSize = size; shade = colour; }
)";
const char* const kFragmentShader = R"(#version 330 core
in vec4 shade;
out vec4 result;
void main() { result = shade; }
)";
// The plate's quad carries its texture place in the colour's first two parts.
const char* const kPlateShader = R"(#version 330 core
in vec4 shade;
uniform sampler2D plate;
out vec4 result;
void main() { result = vec4(texture(plate, shade.xy).rgb, shade.a); }
)";

QSurfaceFormat coreFormat() {
    QSurfaceFormat format;
    format.setVersion(3, 3);
    format.setProfile(QSurfaceFormat::CoreProfile);
    format.setDepthBufferSize(24);
    format.setSamples(4);
    return format;
}

}  // namespace

bool hasOpenGL() {
    static const bool available = [] {
        QOpenGLContext context;
        context.setFormat(coreFormat());
        if (!context.create()) return false;
        QOffscreenSurface surface;
        surface.setFormat(context.format());
        surface.create();
        const bool usable =
            surface.isValid() && context.makeCurrent(&surface) && context.format().version() >= qMakePair(3, 3);
        if (usable) context.doneCurrent();
        return usable;
    }();
    return available;
}

WorldView::WorldView(Workspace& workspace, QWidget* parent)
    : QOpenGLWidget(parent), workspace_(workspace), buffer_(QOpenGLBuffer::VertexBuffer) {
    setObjectName("worldView");
    setFormat(coreFormat());
    setMinimumSize(320, 200);
    setFocusPolicy(Qt::StrongFocus);
    setAccessibleName("3D view");
    connect(&workspace, &Workspace::shotChanged, this, [this] {
        stale_ = true;
        update();
    });
    connect(&workspace, &Workspace::liveSolveChanged, this, [this] {
        stale_ = true;
        update();
    });
    connect(&workspace, &Workspace::frameChanged, this, [this] { update(); });
    connect(&workspace, &Workspace::selectionChanged, this, [this] {
        stale_ = true;
        update();
    });
    connect(&workspace, &Workspace::plateChanged, this, [this] {
        framed_ = false;
        stale_ = true;
        update();
    });
}

WorldView::~WorldView() {
    makeCurrent();
    texture_.reset();
    program_.reset();
    plateProgram_.reset();
    array_.destroy();
    buffer_.destroy();
    doneCurrent();
}

void WorldView::setThroughCamera(bool through) {
    through_ = through;
    update();
}

void WorldView::frameAll() {
    framed_ = false;
    stale_ = true;
    update();
}

void WorldView::initializeGL() {
    initializeOpenGLFunctions();
    program_ = std::make_unique<QOpenGLShaderProgram>();
    program_->addShaderFromSourceCode(QOpenGLShader::Vertex, kVertexShader);
    program_->addShaderFromSourceCode(QOpenGLShader::Fragment, kFragmentShader);
    program_->link();
    plateProgram_ = std::make_unique<QOpenGLShaderProgram>();
    plateProgram_->addShaderFromSourceCode(QOpenGLShader::Vertex, kVertexShader);
    plateProgram_->addShaderFromSourceCode(QOpenGLShader::Fragment, kPlateShader);
    plateProgram_->link();
    array_.create();
    buffer_.create();
    buffer_.setUsagePattern(QOpenGLBuffer::StreamDraw);
}

namespace {
constexpr double kSphere = 10.0;  ///< radius on which directions are shown
}

void WorldView::rebuild() {
    stale_ = false;
    cloud_.clear();
    path_.clear();
    grid_.clear();
    const Shot& shot = workspace_.shot();
    if (const auto live = workspace_.liveSolve()) {
        rebuildLive(*live);
        return;
    }
    if (!shot.solve) return;
    const Orientation orientation = orientationOf(shot);
    const auto vertex = [](const Vector3d& p, const QColor& c, float alpha = 1.0F) {
        return Vertex{float(p.x()),      float(p.y()),     float(p.z()), float(c.redF()),
                      float(c.greenF()), float(c.blueF()), alpha};
    };
    std::vector<double> distances;
    Vector3d low = Vector3d::Constant(1e30), high = Vector3d::Constant(-1e30);
    Vector3d eye = Vector3d::Zero();
    for (const SolvedFrame& frame : shot.solve->frames)
        eye += orientation.apply(Vector3d(frame.worldFromCamera.translation())) / double(shot.solve->frames.size());
    // A camera that only turns sees directions: they stand on a sphere around it.
    const bool travels = shot.solve->motion == CameraMotion::travelling;
    for (const SolvedTrack& track : shot.solve->tracks) {
        if (track.role == TrackRole::disagreed || (travels ? !track.xyz : !track.direction)) continue;
        const Vector3d p = travels ? orientation.apply(*track.xyz)
                                   : Vector3d(eye + kSphere * (orientation.rotation * *track.direction));
        const bool selected = workspace_.selection().contains(track.track);
        const bool ground =
            std::find(shot.world.ground.begin(), shot.world.ground.end(), track.track) != shot.world.ground.end();
        QColor colour = theme::fitColour(theme::badnessOfError(track.rms_px)).lighter(150);
        if (selected || ground) colour = theme::kBrass;
        cloud_.push_back(vertex(p, colour));
        distances.push_back((p - eye).norm());
    }
    for (const SolvedFrame& frame : shot.solve->frames) {
        const Vector3d p = orientation.apply(Vector3d(frame.worldFromCamera.translation()));
        path_.push_back(vertex(p, theme::kBrass));
        low = low.cwiseMin(p);
        high = high.cwiseMax(p);
    }
    if (!distances.empty()) {
        std::nth_element(distances.begin(), distances.begin() + std::ptrdiff_t(distances.size() / 2), distances.end());
        size_ = std::max(1e-3, distances[distances.size() / 2]);
    }
    // Cells of a round size, so that about a dozen lie between camera and scene.
    const double cell = shot.world.measure ? std::pow(10.0, std::round(std::log10(size_ / 10))) : size_ / 10;
    if (!travels) {
        // No ground to lay a grid on: circles of equal height and heading instead.
        constexpr int kPieces = 72;
        const auto onSphere = [&](double heading, double height) -> Vector3d {
            return eye + kSphere * Vector3d(std::cos(height) * std::sin(heading), std::sin(height),
                                            -std::cos(height) * std::cos(heading));
        };
        for (int line = -5; line <= 5; ++line)
            for (int piece = 0; piece < kPieces; ++piece) {
                const QColor colour = line == 0 ? QColor(150, 120, 60) : QColor(70, 70, 70);
                for (const int end : {piece, piece + 1})
                    grid_.push_back(vertex(onSphere(2 * M_PI * end / kPieces, line * M_PI / 12), colour));
            }
        for (int line = 0; line < 24; ++line)
            for (int piece = -15; piece < 15; ++piece)
                for (const int end : {piece, piece + 1})
                    grid_.push_back(vertex(onSphere(2 * M_PI * line / 24, end * M_PI / 36), QColor(70, 70, 70)));
    }
    for (int i = -12; travels && i <= 12; ++i)
        for (int axis = 0; axis < 2; ++axis) {
            const double reach = 12 * cell;
            const Vector3d a = axis == 0 ? Vector3d(-reach, 0, i * cell) : Vector3d(i * cell, 0, -reach);
            const Vector3d b = axis == 0 ? Vector3d(reach, 0, i * cell) : Vector3d(i * cell, 0, reach);
            const QColor colour = i == 0 ? QColor(150, 120, 60) : QColor(70, 70, 70);
            grid_.push_back(vertex(a, colour));
            grid_.push_back(vertex(b, colour));
        }
    if (!framed_ && !cloud_.empty()) {
        framed_ = true;
        // The nearer half of the cloud is the scene; the far shore would shrink it to a dot.
        Vector3d middle = Vector3d::Zero();
        int count = 0;
        for (const Vertex& v : cloud_) {
            const Vector3d p(v.x, v.y, v.z);
            if ((p - eye).norm() > 1.3 * size_) continue;
            middle += p;
            ++count;
        }
        target_ = !travels ? eye : count > 0 ? Vector3d(0.65 * middle / count + 0.35 * eye) : Vector3d::Zero();
        distance_ = (travels ? 2.1 : 2.6) * size_;
    }
}

void WorldView::rebuildLive(const SolveView& view) {
    if (view.frames.empty() || view.points.empty()) return;
    // Upright as the cameras are and as large as a finished solve, so that the picture does not jump at the end.
    Vector3d up = Vector3d::Zero(), eye = Vector3d::Zero();
    for (const SolvedFrame& frame : view.frames) {
        up += frame.worldFromCamera.linear().col(1);
        eye += Vector3d(frame.worldFromCamera.translation()) / double(view.frames.size());
    }
    std::vector<double> distances;
    for (const Vector3d& point : view.points) distances.push_back((point - eye).norm());
    std::nth_element(distances.begin(), distances.begin() + std::ptrdiff_t(distances.size() / 2), distances.end());
    const double scale = kSphere / std::max(1e-9, distances[distances.size() / 2]);
    const Eigen::Quaterniond turn =
        Eigen::Quaterniond::FromTwoVectors(up.norm() > 1e-9 ? up.normalized() : Vector3d(0, 1, 0), Vector3d::UnitY());
    const auto vertex = [&](const Vector3d& p, const QColor& c) {
        const Vector3d at = scale * (turn * (p - eye));
        return Vertex{float(at.x()),     float(at.y()),    float(at.z()), float(c.redF()),
                      float(c.greenF()), float(c.blueF()), 1.0F};
    };
    for (const Vector3d& point : view.points)
        if ((point - eye).norm() * scale < 12 * kSphere) cloud_.push_back(vertex(point, QColor(150, 150, 150)));
    for (const SolvedFrame& frame : view.frames)
        path_.push_back(vertex(frame.worldFromCamera.translation(), theme::kBrass));
    size_ = kSphere;
    target_ = Vector3d::Zero();
    distance_ = 2.6 * kSphere;
    framed_ = false;
}

QMatrix4x4 WorldView::orbitMatrix() const {
    QMatrix4x4 projection;
    projection.perspective(42.0F, float(width()) / float(std::max(1, height())), float(distance_ * 0.01),
                           float(distance_ * 200));
    const Vector3d eye = target_ + distance_ * Vector3d(std::cos(pitch_) * std::sin(yaw_), std::sin(pitch_),
                                                        std::cos(pitch_) * std::cos(yaw_));
    QMatrix4x4 view;
    view.lookAt({float(eye.x()), float(eye.y()), float(eye.z())},
                {float(target_.x()), float(target_.y()), float(target_.z())}, {0, 1, 0});
    return projection * view;
}

std::optional<QMatrix4x4> WorldView::cameraMatrix() const {
    const Shot& shot = workspace_.shot();
    const SolvedFrame* frame = shot.solve ? solvedFrameAt(*shot.solve, workspace_.frame()) : nullptr;
    if (!frame) return std::nullopt;
    const Eigen::Matrix4d view = orientationOf(shot).apply(frame->worldFromCamera).inverse().matrix();
    QMatrix4x4 viewMatrix;
    for (int r = 0; r < 4; ++r)
        for (int c = 0; c < 4; ++c) viewMatrix(r, c) = float(view(r, c));
    // The plate fits inside the widget; what the widget shows beyond it is beyond the frame.
    const Lens lens = lensOf(*shot.solve, *frame);
    const double fit =
        std::max(double(lens.width) / std::max(1, width()), double(lens.height) / std::max(1, height())) * 1.08;
    const double near = size_ * 0.01;
    const double halfWidth = 0.5 * width() * fit / frame->focal_px * near;
    const double halfHeight = 0.5 * height() * fit / frame->focal_px * near;
    QMatrix4x4 projection;
    projection.frustum(float(-halfWidth), float(halfWidth), float(-halfHeight), float(halfHeight), float(near),
                       float(size_ * 200));
    return projection * viewMatrix;
}

void WorldView::draw(const std::vector<Vertex>& vertices, GLenum mode, const QMatrix4x4& clipFromWorld, float size) {
    if (vertices.empty()) return;
    array_.bind();
    buffer_.bind();
    buffer_.allocate(vertices.data(), int(vertices.size() * sizeof(Vertex)));
    program_->bind();
    program_->setUniformValue("clipFromWorld", clipFromWorld);
    program_->setUniformValue("size", size);
    program_->enableAttributeArray(0);
    program_->enableAttributeArray(1);
    program_->setAttributeBuffer(0, GL_FLOAT, 0, 3, sizeof(Vertex));
    program_->setAttributeBuffer(1, GL_FLOAT, 3 * sizeof(float), 4, sizeof(Vertex));
    glDrawArrays(mode, 0, GLsizei(vertices.size()));
    program_->release();
    buffer_.release();
    array_.release();
}

void WorldView::drawPlate(const QMatrix4x4& clipFromWorld, const std::vector<Vertex>& quad) {
    const PicturePtr picture = workspace_.picture();
    if (!picture) return;
    if (picture != textureOf_ || !texture_) {
        const auto pixels = displayPixels(*picture, workspace_.view());
        const QImage image(reinterpret_cast<const uchar*>(pixels.data()), picture->width, picture->height,
                           QImage::Format_RGB32);
        texture_ = std::make_unique<QOpenGLTexture>(image, QOpenGLTexture::DontGenerateMipMaps);
        texture_->setMinMagFilters(QOpenGLTexture::Linear, QOpenGLTexture::Linear);
        texture_->setWrapMode(QOpenGLTexture::ClampToEdge);
        textureOf_ = picture;
    }
    array_.bind();
    buffer_.bind();
    buffer_.allocate(quad.data(), int(quad.size() * sizeof(Vertex)));
    plateProgram_->bind();
    texture_->bind(0);
    plateProgram_->setUniformValue("clipFromWorld", clipFromWorld);
    plateProgram_->setUniformValue("size", 1.0F);
    plateProgram_->setUniformValue("plate", 0);
    plateProgram_->enableAttributeArray(0);
    plateProgram_->enableAttributeArray(1);
    plateProgram_->setAttributeBuffer(0, GL_FLOAT, 0, 3, sizeof(Vertex));
    plateProgram_->setAttributeBuffer(1, GL_FLOAT, 3 * sizeof(float), 4, sizeof(Vertex));
    glDrawArrays(GL_TRIANGLES, 0, GLsizei(quad.size()));
    texture_->release();
    plateProgram_->release();
    buffer_.release();
    array_.release();
}

void WorldView::paintGL() {
    if (stale_) rebuild();
    glClearColor(0.105F, 0.105F, 0.105F, 1.0F);
    glClear(GL_COLOR_BUFFER_BIT | GL_DEPTH_BUFFER_BIT);
    glEnable(GL_DEPTH_TEST);
    glEnable(GL_PROGRAM_POINT_SIZE);
    glEnable(GL_BLEND);
    glBlendFunc(GL_SRC_ALPHA, GL_ONE_MINUS_SRC_ALPHA);
    const Shot& shot = workspace_.shot();
    const bool live = workspace_.liveSolve() != nullptr;
    const SolvedFrame* solved = shot.solve && !live ? solvedFrameAt(*shot.solve, workspace_.frame()) : nullptr;
    const auto camera = cameraMatrix();
    const bool through = through_ && camera && !live;
    const QMatrix4x4 clip = through ? *camera : orbitMatrix();
    const float scale = float(devicePixelRatioF());

    if (solved) {
        // The frustum at a sixth of the way to the scene, or far behind it when looked through.
        const Lens lens = lensOf(*shot.solve, *solved);
        const double depth = through ? size_ * 60 : size_ * 0.16;
        const Eigen::Isometry3d worldFromCamera = orientationOf(shot).apply(solved->worldFromCamera);
        const auto corner = [&](double x, double y) -> Vector3d {
            return worldFromCamera * Vector3d((x - lens.cx) / (solved->focal_px * lens.squeeze) * depth,
                                              -(y - lens.cy) / solved->focal_px * depth, -depth);
        };
        // The plate is bent as the lens bends it, so that the cloud lies on what it is of.
        constexpr int kPatches = 16;
        std::vector<Vertex> quad;
        const auto bent = [&](int i, int j) {
            const double x = lens.width * double(i) / kPatches;
            const double y = lens.height * double(j) / kPatches;
            const auto straight = undistortedFromPlate(lens, {x, y});
            const Vector3d p = straight ? corner(straight->x(), straight->y()) : corner(x, y);
            return Vertex{float(p.x()),          float(p.y()),        float(p.z()),
                          float(i) / kPatches,   float(j) / kPatches, 0,
                          through ? 1.0F : 0.92F};
        };
        for (int j = 0; j < kPatches; ++j)
            for (int i = 0; i < kPatches; ++i)
                for (const auto& [di, dj] : {std::pair{0, 0}, {1, 0}, {1, 1}, {0, 0}, {1, 1}, {0, 1}})
                    quad.push_back(bent(i + di, j + dj));
        drawPlate(clip, quad);
        if (!through) {
            std::vector<Vertex> edges;
            const Vector3d eye = worldFromCamera.translation();
            const QColor c = theme::kBrass;
            const auto add = [&](const Vector3d& p) {
                edges.push_back({float(p.x()), float(p.y()), float(p.z()), float(c.redF()), float(c.greenF()),
                                 float(c.blueF()), 1});
            };
            const Vector3d corners[4] = {corner(0, 0), corner(lens.width, 0), corner(lens.width, lens.height),
                                         corner(0, lens.height)};
            for (int i = 0; i < 4; ++i) {
                add(eye);
                add(corners[i]);
                add(corners[i]);
                add(corners[(i + 1) % 4]);
            }
            draw(edges, GL_LINES, clip, 1);
        }
    }
    draw(grid_, GL_LINES, clip, 1);
    if (!through) draw(path_, GL_LINE_STRIP, clip, 1);
    draw(cloud_, GL_POINTS, clip, 3.0F * scale);

    QPainter painter(this);
    painter.setPen(theme::kDim);
    if (live) {
        painter.drawText(rect().adjusted(14, 10, -14, -10), Qt::AlignLeft | Qt::AlignBottom,
                         "solving: cameras and points as they come");
    } else if (!shot.solve) {
        painter.drawText(rect(), Qt::AlignCenter, "No camera yet: scatter features, then solve in the Camera card");
    } else {
        const QString units = shot.world.measure ? "metres" : "units";
        painter.drawText(rect().adjusted(14, 10, -14, -10), Qt::AlignLeft | Qt::AlignBottom,
                         through ? QString("through the camera, frame %1").arg(workspace_.frame())
                                 : QString("left drag orbits · middle drag pans · wheel zooms · %1")
                                       .arg(shot.solve->motion == CameraMotion::travelling
                                                ? units
                                                : QString("directions only: this camera sees no depth")));
        if (through_ && !camera)
            painter.drawText(rect(), Qt::AlignCenter, QString("Frame %1 is not solved").arg(workspace_.frame()));
    }
}

void WorldView::mousePressEvent(QMouseEvent* event) {
    last_ = event->position();
    setFocus();
}

void WorldView::mouseMoveEvent(QMouseEvent* event) {
    const QPointF by = event->position() - last_;
    last_ = event->position();
    if (event->buttons() & Qt::LeftButton) {
        yaw_ -= by.x() * 0.008;
        pitch_ = std::clamp(pitch_ + by.y() * 0.008, -1.5, 1.5);
    } else if (event->buttons() & Qt::MiddleButton) {
        const Vector3d right(std::cos(yaw_), 0, -std::sin(yaw_));
        const Vector3d back(std::cos(pitch_) * std::sin(yaw_), std::sin(pitch_), std::cos(pitch_) * std::cos(yaw_));
        target_ += (-right * by.x() + back.cross(right) * by.y()) * distance_ * 0.0012;
    }
    update();
}

void WorldView::wheelEvent(QWheelEvent* event) {
    distance_ *= std::pow(0.9985, event->angleDelta().y());
    update();
}

}  // namespace pinion
