#include "sheet/curves.h"

#include "widgets/theme.h"

#include <QLabel>
#include <QMouseEvent>
#include <QVBoxLayout>
#include <qcustomplot.h>

#include <cmath>

namespace pinion {
namespace {

constexpr std::size_t kMostTracks = 12;  // more than that is a tangle
// Beside the shade each curve has a stroke of its own.
const QColor kShades[] = {theme::kBrass, QColor(0xdd, 0xdd, 0xd6), theme::kSlate, theme::kSand};
constexpr Qt::PenStyle kStrokes[] = {Qt::SolidLine, Qt::DashLine, Qt::DotLine};
const QStringList kTrackCurves{"x", "y", "speed", "score", "error"};

QPen penOf(std::size_t i) { return QPen(kShades[i % 4], 1.4, kStrokes[(i / 4) % 3]); }

}  // namespace

CurvesPanel::CurvesPanel(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
    setObjectName("curves");
    setAccessibleName("Curves");
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 0, 0, 0);
    plot_ = new QCustomPlot;
    plot_->setObjectName("curvePlot");
    layout->addWidget(plot_);
    playhead_ = new QCPItemStraightLine(plot_);
    playhead_->setPen(QPen(QColor(0xf2, 0xf2, 0xf2), 1));
    dressPlot();
    empty_ = new QLabel(this);
    empty_->setProperty("dim", true);
    empty_->setAlignment(Qt::AlignCenter);
    plot_->installEventFilter(this);
    connect(&session.document, &Document::changed, this, [this] { rebuild(); });
    connect(&session.selection, &Selection::changed, this, [this] { fit(); });
    connect(&session.player, &Player::frameChanged, this, [this] { movePlayhead(); });
    // Once the artist has moved the view it is left alone until another track is chosen.
    connect(plot_, &QCustomPlot::mouseWheel, this, [this] { fitted_ = false; });
}

CurvesPanel::~CurvesPanel() = default;

void CurvesPanel::dressPlot() {
    plot_->setBackground(theme::kGround);
    plot_->axisRect()->setAutoMargins(QCP::msLeft | QCP::msBottom);
    plot_->axisRect()->setMinimumMargins(QMargins(52, 6, 12, 18));
    plot_->axisRect()->setMargins(QMargins(52, 6, 12, 18));
    plot_->setInteractions(QCP::iRangeDrag | QCP::iRangeZoom);
    for (QCPAxis* axis : {plot_->xAxis, plot_->yAxis}) {
        axis->setBasePen(QPen(theme::kLine));
        axis->setTickPen(QPen(theme::kLine));
        axis->setSubTickPen(Qt::NoPen);
        axis->setTickLabelColor(theme::kDim);
        axis->grid()->setPen(QPen(QColor(0x2c, 0x2c, 0x2c)));
        axis->grid()->setZeroLinePen(QPen(QColor(0x48, 0x48, 0x48)));
        QFont small = font();
        small.setPixelSize(11);
        axis->setTickLabelFont(small);
    }
    plot_->xAxis->setNumberFormat("f");
    plot_->xAxis->setNumberPrecision(0);
    // Beside the curves, never over them.
    auto* side = new QCPLayoutGrid;
    plot_->plotLayout()->addElement(0, 1, side);
    side->addElement(0, 0, plot_->legend);
    side->addElement(1, 0, new QCPLayoutGrid);
    side->setRowStretchFactor(0, 0.001);
    plot_->plotLayout()->setColumnStretchFactor(1, 0.001);
    plot_->legend->setBrush(Qt::NoBrush);
    plot_->legend->setBorderPen(Qt::NoPen);
    plot_->legend->setTextColor(theme::kDim);
}

void CurvesPanel::addCurve(std::unique_ptr<ShotCurve> curve) {
    shotCurves_.push_back(std::move(curve));
    emit curveAdded(shotCurves_.back()->name());
}

QStringList CurvesPanel::names() const {
    QStringList names = kTrackCurves;
    for (const auto& curve : shotCurves_) names << curve->name();
    return names;
}

const ShotCurve* CurvesPanel::shotCurve() const {
    for (const auto& curve : shotCurves_)
        if (curve->name() == curve_) return curve.get();
    return nullptr;
}

void CurvesPanel::setCurve(const QString& name) {
    curve_ = name;
    emit curveChanged(name);
    fit();
}

int CurvesPanel::curveCount() const { return plot_->graphCount(); }

void CurvesPanel::fit() {
    fitted_ = true;
    rebuild();
}

void CurvesPanel::refresh(const QString& name) {
    if (name == curve_) rebuild();
}

void CurvesPanel::showEvent(QShowEvent*) { rebuild(); }

double CurvesPanel::valueOf(const Track& track, std::size_t i) const {
    const Sample& sample = track.samples[i];
    if (curve_ == "x") return sample.wanted().x();
    if (curve_ == "y") return sample.wanted().y();
    if (curve_ == "score") return sample.score;
    if (curve_ == "speed") {
        if (i == 0) return 0;
        const Sample& before = track.samples[i - 1];
        return (sample.at - before.at).norm() / std::max(1, sample.frame - before.frame);
    }
    const Shot& shot = session_.shot();
    const SolvedTrack* solved = findSolved(shot, track.id);
    if (!solved || !solved->xyz) return std::nan("");
    const auto seen = projected(*shot.solve, sample.frame, *solved->xyz);
    return seen ? (*seen - sample.wanted()).norm() : std::nan("");
}

double CurvesPanel::baseOf(const Track& track) const {
    if (session_.selection.size() < 2 || (curve_ != "x" && curve_ != "y") || track.samples.isEmpty()) return 0;
    const Sample* reference = sampleAt(track, track.referenceFrame);
    const Eigen::Vector2d at = (reference ? *reference : track.samples.front()).wanted();
    return curve_ == "x" ? at.x() : at.y();
}

void CurvesPanel::rebuild() {
    if (!isVisible()) return;
    const QCPRange frames = plot_->xAxis->range(), values = plot_->yAxis->range();
    plot_->clearGraphs();
    plot_->legend->setVisible(false);
    bool drawn = false;
    if (const ShotCurve* curve = shotCurve()) {
        drawLines(curve->lines());
        drawn = plot_->graphCount() > 0;
        plot_->legend->setVisible(drawn);
        empty_->setText(curve->whenEmpty());
    } else {
        const std::size_t shown = drawTracks();
        drawn = shown > 0;
        plot_->legend->setVisible(shown > 1);
        empty_->setText(curve_ == "error" ? "Select a solved track to see its error."
                                          : "Select a track to see its curves.");
    }
    empty_->setVisible(!drawn);
    empty_->setGeometry(rect());
    setRanges({frames.lower, frames.upper}, {values.lower, values.upper});
    movePlayhead();
    plot_->replot(QCustomPlot::rpQueuedReplot);
}

void CurvesPanel::setRanges(const std::pair<double, double>& frames, const std::pair<double, double>& values) {
    if (fitted_) {
        const FrameRange& range = session_.shot().plate.range;
        plot_->rescaleAxes();
        plot_->xAxis->setRange(range.first - 0.5, range.last + 0.5);
        const QCPRange spread = plot_->yAxis->range();
        const double room = std::max(spread.size() * 0.08, curve_ == "score" ? 0.01 : 0.05);
        plot_->yAxis->setRange(spread.lower - room, spread.upper + room);
    } else {
        plot_->xAxis->setRange(frames.first, frames.second);
        plot_->yAxis->setRange(values.first, values.second);
    }
    // Pixels grow downwards on the plate, and so does their curve.
    plot_->yAxis->setRangeReversed(curve_ == "y");
}

std::size_t CurvesPanel::drawTracks() {
    const Shot& shot = session_.shot();
    std::size_t shown = 0;
    for (const TrackId id : session_.selection.list())
        if (const Track* track = findTrack(shot, id); track && shown < kMostTracks) drawTrack(*track, shown++);
    if (curve_ == "score")
        drawLines({{"drift limit",
                    {double(shot.plate.frames.first), double(shot.plate.frames.last)},
                    {shot.scatterSettings.driftLimit, shot.scatterSettings.driftLimit},
                    true}});
    return shown;
}

void CurvesPanel::drawTrack(const Track& track, std::size_t number) {
    QVector<double> x, y, tieX, tieY;
    const double base = baseOf(track);
    if (number == 0) base_ = base;
    for (std::size_t i = 0; i < track.samples.size(); ++i) {
        const Sample& sample = track.samples[i];
        double value = valueOf(track, i) - base;
        if (number == 0 && draggedTie_ && *draggedTie_ == sample.frame) value = draggedTo_;
        // A gap is a gap.
        if (!x.isEmpty() && sample.frame > x.back() + 1) {
            x << x.back() + 0.5;
            y << std::nan("");
        }
        x << sample.frame;
        y << value;
        if (sample.tie) {
            tieX << sample.frame;
            tieY << value;
        }
    }
    QCPGraph* graph = plot_->addGraph();
    graph->setData(x, y, true);
    graph->setPen(penOf(number));
    graph->setName(text(track.name));
    QCPGraph* ties = plot_->addGraph();
    ties->setData(tieX, tieY, true);
    ties->setLineStyle(QCPGraph::lsNone);
    ties->setScatterStyle(
        QCPScatterStyle(QCPScatterStyle::ssDiamond, QPen(penOf(number).color()), QBrush(theme::kGround), 8));
    ties->removeFromLegend();
}

void CurvesPanel::drawLines(const std::vector<CurveLine>& lines) {
    std::size_t strong = 0;
    for (const CurveLine& line : lines) {
        QCPGraph* graph = plot_->addGraph();
        graph->setData(line.frames, line.values, true);
        graph->setPen(line.faint ? QPen(curve_ == "score" ? theme::kCoral : theme::kDim, 1, Qt::DotLine)
                                 : penOf(strong++));
        graph->setName(line.name);
        if (line.name.isEmpty()) graph->removeFromLegend();
    }
}

void CurvesPanel::movePlayhead() {
    if (!isVisible()) return;
    playhead_->point1->setCoords(session_.player.frame(), 0);
    playhead_->point2->setCoords(session_.player.frame(), 1);
    plot_->replot(QCustomPlot::rpQueuedReplot);
}

std::optional<int> CurvesPanel::tieAt(const QPointF& at) const {
    const Track* track = session_.selection.first();
    if ((curve_ != "x" && curve_ != "y") || !track || track->locked || session_.isBusy()) return std::nullopt;
    for (std::size_t i = 0; i < track->samples.size(); ++i) {
        if (!track->samples[i].tie) continue;
        const QPointF place(plot_->xAxis->coordToPixel(track->samples[i].frame),
                            plot_->yAxis->coordToPixel(valueOf(*track, i) - base_));
        if ((place - at).manhattanLength() < 9) return track->samples[i].frame;
    }
    return std::nullopt;
}

bool CurvesPanel::press(const QPointF& at) {
    pressed_ = at;
    draggedTie_ = tieAt(at);
    if (draggedTie_) draggedTo_ = plot_->yAxis->pixelToCoord(at.y());
    return draggedTie_.has_value();
}

bool CurvesPanel::move(const QPointF& at, bool dragging) {
    if (draggedTie_ || dragging) fitted_ = false;
    if (!draggedTie_) return false;
    draggedTo_ = plot_->yAxis->pixelToCoord(at.y());
    rebuild();
    return true;
}

bool CurvesPanel::release(const QPointF& at) {
    const bool click = (at - pressed_).manhattanLength() < 4;
    if (!draggedTie_) {
        if (click && session_.hasPlate()) session_.player.goTo(int(std::lround(plot_->xAxis->pixelToCoord(at.x()))));
        return false;
    }
    const int frame = *draggedTie_;
    draggedTie_.reset();
    const Track* track = session_.selection.first();
    const Sample* sample = track ? sampleAt(*track, frame) : nullptr;
    if (sample && !click) {
        Eigen::Vector2d to = sample->at;
        const int axis = curve_ == "x" ? 0 : 1;
        to[axis] = draggedTo_ + base_ - double(sample->carried[axis]);
        session_.ties.place(track->id, frame, to,
                            QString("Move the tie of %1 on %2").arg(text(track->name)).arg(frame));
    } else if (sample) {
        session_.player.goTo(frame);
    }
    return true;
}

bool CurvesPanel::eventFilter(QObject* watched, QEvent* event) {
    if (watched != plot_) return QWidget::eventFilter(watched, event);
    const auto* mouse = static_cast<QMouseEvent*>(event);
    switch (event->type()) {
        case QEvent::MouseButtonPress:
            if (press(mouse->position())) return true;
            break;
        case QEvent::MouseMove:
            if (move(mouse->position(), mouse->buttons() != Qt::NoButton)) return true;
            break;
        case QEvent::MouseButtonRelease:
            if (release(mouse->position())) return true;
            break;
        case QEvent::MouseButtonDblClick:
            fit();
            return true;
        default:
            break;
    }
    return QWidget::eventFilter(watched, event);
}

}  // namespace pinion
