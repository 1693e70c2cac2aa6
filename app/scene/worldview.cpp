#include "scene/worldview.h"

#include "canvas/marks.h"
#include "shot/stages/worldstage.h"
#include "widgets/theme.h"

#include <Eigen/Geometry>

#include <QLineF>
#include <QMouseEvent>
#include <QOffscreenSurface>
#include <QOpenGLContext>
#include <QPainter>
#include <QWheelEvent>

#include <algorithm>
#include <array>
#include <cmath>

namespace pinion {
namespace {

using Eigen::Vector3d;

constexpr double kGrab = 9.0;     // screen pixels within which a click means a point
constexpr double kNearest = 1.3;  // of the scene's size: what is farther does not count when all is framed

/// What is written and drawn over the scene, by the painter of ordinary widgets.
class Over : public QWidget {
public:
    Over(QWidget* parent, std::function<void(QPainter&)> paint) : QWidget(parent), paint_(std::move(paint)) {
        setAttribute(Qt::WA_TransparentForMouseEvents);
    }

protected:
    void paintEvent(QPaintEvent*) override {
        QPainter painter(this);
        paint_(painter);
    }

private:
    std::function<void(QPainter&)> paint_;
};

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

WorldView::WorldView(Session& session, QWidget* parent)
    : QOpenGLWidget(parent),
      session_(session),
      pictures_(session.jobs, [this] { update(); }),
      plateColours_(session,
                    [this] {
                        stale_ = true;
                        update();
                    }),
      standInPictures_(session, [this] { update(); }) {
    setObjectName("worldView");
    setFormat(coreFormat());
    setMinimumSize(320, 200);
    setFocusPolicy(Qt::StrongFocus);
    setAccessibleName("3D view");
    over_ = new Over(this, [this](QPainter& painter) { paintOver(painter); });
    const auto rebuilt = [this] {
        stale_ = true;
        update();
    };
    connect(&session.document, &Document::changed, this, rebuilt);
    connect(&session.selection, &Selection::changed, this, rebuilt);
    connect(&session.player, &Player::frameChanged, this, [this] { update(); });
    connect(&session.player, &Player::plateChanged, this, [this] {
        pictures_.clear();
        image_ = {};
        frameAll();
    });
}

WorldView::~WorldView() {
    makeCurrent();
    painter_.end();
    doneCurrent();
}

void WorldView::setLive(const std::shared_ptr<const SolveView>& live) {
    live_ = live;
    stale_ = true;
    update();
}

void WorldView::setThroughCamera(bool through) {
    through_ = through;
    update();
}

void WorldView::setLook(SceneCamera::Look look) {
    camera_.setLook(look);
    emit lookChanged();
    update();
}

void WorldView::setColours(Colours colours) {
    colours_ = colours;
    stale_ = true;
    update();
}

void WorldView::setWire(bool wire) {
    wire_ = wire;
    update();
}

void WorldView::addTool(std::unique_ptr<SceneTool> tool) { tools_.push_back(std::move(tool)); }

void WorldView::refresh() {
    stale_ = true;
    update();
}

Shot WorldView::shotNow() const {
    for (const auto& tool : tools_)
        if (auto draft = tool->draft()) return *std::move(draft);
    return session_.shot();
}

void WorldView::frameAll() {
    framed_ = false;
    stale_ = true;
    update();
}

void WorldView::frameSelection() {
    if (stale_) rebuild();
    std::vector<Vector3d> points;
    for (std::size_t i = 0; i < scene_.tracks.size(); ++i)
        if (session_.selection.contains(scene_.tracks[i])) points.push_back(scene_.placeOf(i));
    for (const auto& tool : tools_)
        if (points.empty()) points = tool->held();
    if (points.empty()) {
        frameAll();
        return;
    }
    camera_.frame(points);
    update();
}

QColor WorldView::colourOf(const SolvedTrack& track) const {
    const auto& ground = session_.shot().world.ground;
    if (session_.selection.contains(track.track) ||
        std::find(ground.begin(), ground.end(), track.track) != ground.end())
        return theme::kBrass;
    return colours_ == Colours::plate ? plateColours_.of(track.track)
                                      : theme::fitColour(theme::badnessOfError(track.rms_px)).lighter(150);
}

void WorldView::rebuild() {
    stale_ = false;
    if (live_) {
        scene_ = geometryOf(*live_);
        camera_.frame(Vector3d::Zero(), 2.6 * scene_.size);
        framed_ = false;
        return;
    }
    if (colours_ == Colours::plate) plateColours_.want();
    scene_ = geometryOf(shotNow(), [this](const SolvedTrack& track) { return colourOf(track); });
    if (framed_ || scene_.cloud.empty()) return;
    framed_ = true;
    // The nearer half of the cloud is the scene; the far shore would shrink it to a dot.
    Vector3d middle = Vector3d::Zero();
    int count = 0;
    for (std::size_t i = 0; i < scene_.cloud.size(); ++i) {
        const Vector3d place = scene_.placeOf(i);
        if ((place - scene_.eye).norm() > kNearest * scene_.size) continue;
        middle += place;
        ++count;
    }
    const Vector3d target = !scene_.travels ? scene_.eye
                            : count > 0     ? Vector3d(0.65 * middle / count + 0.35 * scene_.eye)
                                            : Vector3d::Zero();
    camera_.frame(target, (scene_.travels ? 2.6 : 2.1) * scene_.size);
}

// ---- how it is seen

const SolvedFrame* WorldView::solvedFrame() const {
    const Shot& shot = session_.shot();
    return shot.solve && !live_ ? solvedFrameAt(*shot.solve, session_.player.frame()) : nullptr;
}

std::optional<QMatrix4x4> WorldView::throughMatrix() const {
    const Shot& shot = session_.shot();
    const SolvedFrame* frame = through_ ? solvedFrame() : nullptr;
    if (!frame) return std::nullopt;
    const Eigen::Matrix4d view = orientationOf(shot).apply(frame->worldFromCamera).inverse().matrix();
    QMatrix4x4 viewMatrix;
    for (int r = 0; r < 4; ++r)
        for (int c = 0; c < 4; ++c) viewMatrix(r, c) = float(view(r, c));
    // The plate fits inside the widget; what the widget shows beyond it is beyond the frame.
    const Lens lens = lensOf(*shot.solve, *frame);
    const double fit =
        std::max(double(lens.width) / std::max(1, width()), double(lens.height) / std::max(1, height())) * 1.08;
    const double near = scene_.size * 0.01;
    const double halfWidth = 0.5 * width() * fit / frame->focal_px * near;
    const double halfHeight = 0.5 * height() * fit / frame->focal_px * near;
    QMatrix4x4 projection;
    projection.frustum(float(-halfWidth), float(halfWidth), float(-halfHeight), float(halfHeight), float(near),
                       float(scene_.size * 200));
    return projection * viewMatrix;
}

QMatrix4x4 WorldView::clipFromWorld() const {
    const auto through = throughMatrix();
    return through ? *through : camera_.clipFromWorld(size());
}

std::optional<QPointF> WorldView::placeOf(TrackId track) const {
    const auto found = std::find(scene_.tracks.begin(), scene_.tracks.end(), track);
    if (found == scene_.tracks.end()) return std::nullopt;
    return screenFromWorld(clipFromWorld(), size(), scene_.placeOf(std::size_t(found - scene_.tracks.begin())));
}

// ---- painting

void WorldView::initializeGL() { painter_.begin(); }

void WorldView::paintGL() {
    if (stale_) rebuild();
    painter_.clear(theme::kGround);
    const auto matrix = throughMatrix();
    const bool through = matrix.has_value();
    const QMatrix4x4 clip = clipFromWorld();
    if (const SolvedFrame* solved = solvedFrame()) drawCamera(*solved, clip, through);
    painter_.draw(scene_.ground, GL_LINES, clip);
    if (!through) painter_.draw(scene_.path, GL_LINE_STRIP, clip);
    if (!live_) {
        standInPictures_.want();
        placeStandIns(scene_, shotNow(), session_.player.frame(),
                      [this](StandInId id, int skin) { return !standInPictures_.of(id, skin).isNull(); });
        if (!wire_) {
            painter_.draw(scene_.solids, GL_TRIANGLES, clip);
            for (const SceneGeometry::Pictured& one : scene_.pictured)
                painter_.drawPicture(one.triangles, clip, standInPictures_.of(one.of, one.skin), one.skin > 0);
        }
        painter_.draw(scene_.wires, GL_LINES, clip);
    }
    painter_.draw(scene_.cloud, GL_POINTS, clip, 3.0F * float(devicePixelRatioF()));
    if (!live_) {
        placeObjects(scene_, session_.shot(), session_.player.frame());
        if (!through) painter_.draw(scene_.ways, GL_LINES, clip);
        painter_.draw(scene_.objects, GL_POINTS, clip, 4.0F * float(devicePixelRatioF()));
    }
    over_->update();
}

void WorldView::resizeEvent(QResizeEvent* event) {
    QOpenGLWidget::resizeEvent(event);
    over_->setGeometry(rect());
}

void WorldView::paintOver(QPainter& painter) {
    const bool through = throughMatrix().has_value();
    painter.setRenderHint(QPainter::Antialiasing);
    paintWords(painter, through);
    if (!through && !scene_.cloud.empty()) paintAxes(painter);
    for (const auto& tool : tools_)
        if (!live_) tool->paint(painter, sight());
    if (grip_ == Grip::select && (last_ - from_).manhattanLength() > 3) drawBand(painter, from_, last_);
}

/// The plate in the camera's frustum: at a sixth of the way to the scene, or far behind it when looked through.
void WorldView::drawCamera(const SolvedFrame& solved, const QMatrix4x4& clip, bool through) {
    const Shot& shot = session_.shot();
    const Lens lens = lensOf(*shot.solve, solved);
    const double depth = through ? scene_.size * 60 : scene_.size * 0.16;
    const Eigen::Isometry3d worldFromCamera = orientationOf(shot).apply(solved.worldFromCamera);
    const auto corner = [&](double x, double y) -> Vector3d {
        return worldFromCamera * Vector3d((x - lens.cx) / (solved.focal_px * lens.squeeze) * depth,
                                          -(y - lens.cy) / solved.focal_px * depth, -depth);
    };
    // The plate is bent as the lens bends it, so that the cloud lies on what it is of.
    constexpr int kPatches = 16;
    const auto bent = [&](int i, int j) {
        const double x = lens.width * double(i) / kPatches;
        const double y = lens.height * double(j) / kPatches;
        const auto straight = undistortedFromPlate(lens, {x, y});
        const Vector3d p = straight ? corner(straight->x(), straight->y()) : corner(x, y);
        return SceneVertex{float(p.x()),          float(p.y()),        float(p.z()),
                           float(i) / kPatches,   float(j) / kPatches, 1,
                           through ? 1.0F : 0.92F};
    };
    std::vector<SceneVertex> triangles;
    for (int j = 0; j < kPatches; ++j)
        for (int i = 0; i < kPatches; ++i)
            for (const auto& [di, dj] : {std::pair{0, 0}, {1, 0}, {1, 1}, {0, 0}, {1, 1}, {0, 1}})
                triangles.push_back(bent(i + di, j + dj));
    if (const QImage image = pictures_.get(session_.player.picture(), session_.player.view()); !image.isNull())
        image_ = image;
    painter_.drawPicture(triangles, clip, image_);
    if (through) return;
    const Vector3d eye = worldFromCamera.translation();
    const Vector3d corners[4] = {corner(0, 0), corner(lens.width, 0), corner(lens.width, lens.height),
                                 corner(0, lens.height)};
    std::vector<SceneVertex> edges;
    for (int i = 0; i < 4; ++i)
        for (const Vector3d& end : {eye, corners[i], corners[i], corners[(i + 1) % 4]})
            edges.push_back(sceneVertex(end, theme::kBrass));
    painter_.draw(edges, GL_LINES, clip);
}

void WorldView::paintWords(QPainter& painter, bool through) const {
    const Shot& shot = session_.shot();
    painter.setPen(theme::kDim);
    const QRect foot = rect().adjusted(14, 10, -14, -10);
    const auto below = [&](const QString& words) { painter.drawText(foot, Qt::AlignLeft | Qt::AlignBottom, words); };
    if (live_) below("solving: cameras and points as they come");
    else if (!shot.solve)
        painter.drawText(rect(), Qt::AlignCenter, "No camera yet: scatter features, then solve in the Camera card");
    else if (through) below(QString("through the camera, frame %1").arg(session_.player.frame()));
    else if (shot.solve->motion != CameraMotion::travelling) below("directions only: this camera sees no depth");
    else below(isInMetres(shot) ? "metres" : "units");
    if (through_ && shot.solve && !live_ && !through)
        painter.drawText(rect(), Qt::AlignCenter, QString("Frame %1 is not solved").arg(session_.player.frame()));
}

/// The sign in the corner: where x, y and z of the world point.
void WorldView::paintAxes(QPainter& painter) const {
    constexpr double kReach = 26;
    const QPointF middle(width() - 52.0, height() - 52.0);
    const auto ends = camera_.axesOnScreen();
    const char* const names[] = {"X", "Y", "Z"};
    QFont bold = font();
    bold.setWeight(QFont::DemiBold);
    bold.setPixelSize(11);
    painter.setFont(bold);
    for (std::size_t i = 0; i < 3; ++i) {
        // An axis that points at the eye is its letter alone.
        const QPointF end = middle + ends[i] * kReach;
        painter.setPen(QPen(theme::kSlate, 1.6));
        painter.drawLine(middle, end);
        painter.setPen(theme::kText);
        painter.drawText(QRectF(end + ends[i] * 9 - QPointF(8, 8), QSizeF(16, 16)), Qt::AlignCenter, names[i]);
    }
}

// ---- the mouse

TrackId WorldView::pointNear(const QPointF& at) const {
    const QMatrix4x4 clip = clipFromWorld();
    TrackId found = 0;
    double best = kGrab;
    for (std::size_t i = 0; i < scene_.tracks.size(); ++i) {
        const auto place = screenFromWorld(clip, size(), scene_.placeOf(i));
        const double away = place ? QLineF(*place, at).length() : best;
        if (away < best) {
            best = away;
            found = scene_.tracks[i];
        }
    }
    return found;
}

void WorldView::selectBand(const QRectF& band, bool adds) {
    std::set<TrackId> chosen;
    if (adds) chosen = session_.selection.tracks();
    const QMatrix4x4 clip = clipFromWorld();
    for (std::size_t i = 0; i < scene_.tracks.size(); ++i)
        if (const auto place = screenFromWorld(clip, size(), scene_.placeOf(i)); place && band.contains(*place))
            chosen.insert(scene_.tracks[i]);
    session_.selection.set(chosen);
}

void WorldView::mousePressEvent(QMouseEvent* event) {
    from_ = last_ = event->position();
    setFocus();
    grip_ = event->button() == Qt::MiddleButton    ? Grip::pan
            : event->button() == Qt::RightButton   ? Grip::orbit
            : event->button() != Qt::LeftButton    ? Grip::none
            : event->modifiers() & Qt::AltModifier ? Grip::orbit
                                                   : Grip::select;
    if (grip_ != Grip::select || live_) return;
    for (const auto& tool : tools_)
        if (tool->press(eventAt(*event))) {
            grip_ = Grip::tool;
            gripped_ = tool.get();
            break;
        }
    update();
}

SceneEvent WorldView::eventAt(const QMouseEvent& event) const {
    return {sight(), event.position(), event.modifiers(), pointNear(event.position()) != 0};
}

void WorldView::mouseMoveEvent(QMouseEvent* event) {
    const QPointF by = event->position() - last_;
    last_ = event->position();
    if (grip_ == Grip::tool) gripped_->drag(eventAt(*event));
    if (grip_ == Grip::pan) camera_.pan(by, size());
    if (grip_ == Grip::orbit) {
        const auto before = camera_.look();
        camera_.orbit(by);
        if (camera_.look() != before) emit lookChanged();
    }
    if (grip_ != Grip::none) update();
}

void WorldView::mouseReleaseEvent(QMouseEvent* event) {
    const Grip grip = std::exchange(grip_, Grip::none);
    update();
    if (grip == Grip::tool) gripped_->release();
    if (grip != Grip::select) return;
    const bool adds = event->modifiers() & (Qt::ControlModifier | Qt::ShiftModifier);
    if ((last_ - from_).manhattanLength() > 3) {
        selectBand(QRectF(from_, last_).normalized(), adds);
        return;
    }
    const TrackId near = pointNear(last_);
    std::set<TrackId> chosen;
    if (adds) chosen = session_.selection.tracks();
    if (near != 0 && !chosen.erase(near)) chosen.insert(near);
    session_.selection.set(chosen);
}

void WorldView::wheelEvent(QWheelEvent* event) {
    camera_.zoom(std::pow(0.9985, event->angleDelta().y()));
    update();
}

}  // namespace pinion
