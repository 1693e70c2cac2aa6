#include "curves.h"

#include "base/units.h"

#include "theme.h"

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

QPen penOf(std::size_t i) { return QPen(kShades[i % 4], 1.4, kStrokes[(i / 4) % 3]); }

}  // namespace

CurvesPanel::CurvesPanel(Workspace& workspace, QWidget* parent) : QWidget(parent), workspace_(workspace) {
    setObjectName("curves");
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 0, 0, 0);
    plot_ = new QCustomPlot;
    plot_->setObjectName("curvePlot");
    layout->addWidget(plot_);
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
    playhead_ = new QCPItemStraightLine(plot_);
    playhead_->setPen(QPen(QColor(0xf2, 0xf2, 0xf2), 1));
    empty_ = new QLabel("Select a track to see its curves.", this);
    empty_->setProperty("dim", true);
    empty_->setAlignment(Qt::AlignCenter);
    plot_->installEventFilter(this);
    connect(&workspace, &Workspace::shotChanged, this, [this] { rebuild(); });
    connect(&workspace, &Workspace::selectionChanged, this, [this] {
        fitted_ = true;
        rebuild();
    });
    connect(&workspace, &Workspace::planChanged, this, [this] {
        if (curve_ == Curve::shake) rebuild();
    });
    connect(&workspace, &Workspace::frameChanged, this, [this] { movePlayhead(); });
    // Once the artist has moved the view it is left alone until another track is chosen.
    connect(plot_, &QCustomPlot::mouseWheel, this, [this] { fitted_ = false; });
}

void CurvesPanel::setCurve(Curve curve) {
    curve_ = curve;
    fitted_ = true;
    emit curveChanged(curve);
    rebuild();
}

int CurvesPanel::curveCount() const { return plot_->graphCount(); }

void CurvesPanel::fit() {
    fitted_ = true;
    rebuild();
}

void CurvesPanel::showEvent(QShowEvent*) { rebuild(); }

double CurvesPanel::valueOf(const Track& track, std::size_t i) const {
    const Sample& sample = track.samples[i];
    switch (curve_) {
        case Curve::x:
            return sample.wanted().x();
        case Curve::y:
            return sample.wanted().y();
        case Curve::speed: {
            if (i == 0) return 0;
            const Sample& before = track.samples[i - 1];
            return (sample.at - before.at).norm() / std::max(1, sample.frame - before.frame);
        }
        case Curve::score:
            return sample.score;
        case Curve::error: {
            const Shot& shot = workspace_.shot();
            const SolvedTrack* solved = findSolved(shot, track.id);
            if (!solved || !solved->xyz) return std::nan("");
            const auto seen = projected(*shot.solve, sample.frame, *solved->xyz);
            return seen ? (*seen - sample.wanted()).norm() : std::nan("");
        }
        case Curve::shake:
        case Curve::focal:
            break;
    }
    return 0;
}

double CurvesPanel::baseOf(const Track& track) const {
    if (workspace_.selection().size() < 2 || (curve_ != Curve::x && curve_ != Curve::y) || track.samples.isEmpty())
        return 0;
    const Sample* reference = sampleAt(track, track.referenceFrame);
    const Eigen::Vector2d at = (reference ? *reference : track.samples.front()).wanted();
    return curve_ == Curve::x ? at.x() : at.y();
}

void CurvesPanel::rebuild() {
    if (!isVisible()) return;
    const QCPRange frames = plot_->xAxis->range(), values = plot_->yAxis->range();
    plot_->clearGraphs();
    plot_->legend->setVisible(false);
    const Shot& shot = workspace_.shot();
    std::size_t shown = 0;
    if (curve_ == Curve::shake) {
        rebuildShake();
        shown = std::size_t(plot_->graphCount());
        empty_->setText("No shake is lent and nothing is steadied: the Steady card holds both.");
    } else if (curve_ == Curve::focal) {
        rebuildFocal();
        shown = std::size_t(plot_->graphCount());
        empty_->setText("No camera yet: the Camera card solves it, and its focal length stands here.");
    } else {
        empty_->setText(curve_ == Curve::error ? "Select a solved track to see its error."
                                               : "Select a track to see its curves.");
        for (const TrackId id : workspace_.selected()) {
            const Track* track = findTrack(shot, id);
            if (!track || shown >= kMostTracks) continue;
            QVector<double> x, y, tieX, tieY;
            const double base = baseOf(*track);
            if (shown == 0) base_ = base;
            for (std::size_t i = 0; i < track->samples.size(); ++i) {
                const Sample& sample = track->samples[i];
                double value = valueOf(*track, i) - base;
                if (shown == 0 && draggedTie_ && *draggedTie_ == sample.frame) value = draggedTo_;
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
            graph->setPen(penOf(shown));
            graph->setName(QString::fromStdString(track->name));
            QCPGraph* ties = plot_->addGraph();
            ties->setData(tieX, tieY, true);
            ties->setLineStyle(QCPGraph::lsNone);
            ties->setScatterStyle(
                QCPScatterStyle(QCPScatterStyle::ssDiamond, QPen(penOf(shown).color()), QBrush(theme::kGround), 8));
            ties->removeFromLegend();
            ++shown;
        }
        if (curve_ == Curve::score) {
            QCPGraph* limit = plot_->addGraph();
            limit->setData({double(shot.plate.frames.first), double(shot.plate.frames.last)},
                           {shot.scatterSettings.driftLimit, shot.scatterSettings.driftLimit}, true);
            limit->setPen(QPen(theme::kCoral, 1, Qt::DotLine));
            limit->setName("drift limit");
        }
        plot_->legend->setVisible(shown > 1);
    }
    empty_->setVisible(shown == 0);
    empty_->setGeometry(rect());
    if (fitted_) {
        plot_->rescaleAxes();
        plot_->xAxis->setRange(shot.plate.range.first - 0.5, shot.plate.range.last + 0.5);
        QCPRange range = plot_->yAxis->range();
        const double room = std::max(range.size() * 0.08, curve_ == Curve::score ? 0.01 : 0.05);
        plot_->yAxis->setRange(range.lower - room, range.upper + room);
    } else {
        plot_->xAxis->setRange(frames);
        plot_->yAxis->setRange(values);
    }
    // Pixels grow downwards on the plate, and so does their curve.
    plot_->yAxis->setRangeReversed(curve_ == Curve::y);
    movePlayhead();
    plot_->replot(QCustomPlot::rpQueuedReplot);
}

void CurvesPanel::rebuildShake() {
    const Shot& shot = workspace_.shot();
    const auto plan = workspace_.plan();
    QVector<double> frames;
    QVector<double> parts[3];
    if (plan && !plan->shake.empty()) {
        for (std::size_t i = 0; i < plan->shake.size(); ++i) {
            frames << shot.plate.range.first + double(i);
            parts[0] << plan->shake[i].x * shot.plate.width;
            parts[1] << plan->shake[i].y * shot.plate.width;
            parts[2] << plan->shake[i].angleDegrees * 10;
        }
    } else if (plan) {
        // What the steadying takes out: the motion of the source against the output.
        const Eigen::Vector2d middle(shot.plate.width / 2.0, shot.plate.height / 2.0);
        for (const FrameMap& map : plan->frames) {
            const MotionParts motion = partsOf(map.sourceFromOutput, middle);
            frames << map.frame;
            parts[0] << motion.shift.x();
            parts[1] << motion.shift.y();
            parts[2] << motion.angle * 180 / M_PI * 10;
        }
    }
    if (frames.isEmpty()) return;
    const char* const names[] = {"x, px", "y, px", "rotation, tenths of a degree"};
    for (std::size_t k = 0; k < 3; ++k) {
        QCPGraph* graph = plot_->addGraph();
        graph->setData(frames, parts[k], true);
        graph->setPen(penOf(k));
        graph->setName(names[k]);
    }
    plot_->legend->setVisible(true);
}

void CurvesPanel::rebuildFocal() {
    const Shot& shot = workspace_.shot();
    if (!shot.solve) return;
    const Solve& solved = *shot.solve;
    QVector<double> frames, values, low, high;
    const auto millimetres = [&](double focal_px) {
        return focalMillimetres(focal_px, solved.sensorWidth_mm, shot.plate.width);
    };
    for (const SolvedFrame& frame : solved.frames) {
        frames << frame.frame;
        const double value = millimetres(frame.focal_px);
        const double deviation =
            solved.zoom ? millimetres(frame.focalDeviation_px) : solved.focalDeviation_mm.value_or(0);
        values << value;
        // Three deviations: what it can hardly lie beyond.
        low << value - 3 * deviation;
        high << value + 3 * deviation;
    }
    const auto line = [&](const QVector<double>& y, const QPen& pen, const QString& name) {
        QCPGraph* graph = plot_->addGraph();
        graph->setData(frames, y, true);
        graph->setPen(pen);
        graph->setName(name);
        return graph;
    };
    line(values, penOf(0), "focal length, mm");
    line(low, QPen(theme::kDim, 1, Qt::DotLine), "± 3 deviations");
    line(high, QPen(theme::kDim, 1, Qt::DotLine), "")->removeFromLegend();
    plot_->legend->setVisible(true);
}

void CurvesPanel::movePlayhead() {
    if (!isVisible()) return;
    playhead_->point1->setCoords(workspace_.frame(), 0);
    playhead_->point2->setCoords(workspace_.frame(), 1);
    plot_->replot(QCustomPlot::rpQueuedReplot);
}

std::optional<int> CurvesPanel::tieAt(const QPointF& at) const {
    if ((curve_ != Curve::x && curve_ != Curve::y) || workspace_.selection().empty()) return std::nullopt;
    const Track* track = findTrack(workspace_.shot(), *workspace_.selection().begin());
    if (!track || track->locked || workspace_.isBusy()) return std::nullopt;
    for (std::size_t i = 0; i < track->samples.size(); ++i) {
        if (!track->samples[i].tie) continue;
        const QPointF place(plot_->xAxis->coordToPixel(track->samples[i].frame),
                            plot_->yAxis->coordToPixel(valueOf(*track, i) - base_));
        if ((place - at).manhattanLength() < 9) return track->samples[i].frame;
    }
    return std::nullopt;
}

bool CurvesPanel::eventFilter(QObject* watched, QEvent* event) {
    if (watched != plot_) return QWidget::eventFilter(watched, event);
    const auto* mouse = static_cast<QMouseEvent*>(event);
    switch (event->type()) {
        case QEvent::MouseButtonPress:
            pressed_ = mouse->position();
            draggedTie_ = tieAt(pressed_);
            if (draggedTie_) {
                draggedTo_ = plot_->yAxis->pixelToCoord(pressed_.y());
                return true;
            }
            break;
        case QEvent::MouseMove:
            if (draggedTie_) {
                draggedTo_ = plot_->yAxis->pixelToCoord(mouse->position().y());
                fitted_ = false;
                rebuild();
                return true;
            }
            if (mouse->buttons() != Qt::NoButton) fitted_ = false;
            break;
        case QEvent::MouseButtonRelease: {
            const bool click = (mouse->position() - pressed_).manhattanLength() < 4;
            if (draggedTie_) {
                const int frame = *draggedTie_;
                draggedTie_.reset();
                const Track* track = findTrack(workspace_.shot(), *workspace_.selection().begin());
                const Sample* sample = track ? sampleAt(*track, frame) : nullptr;
                if (sample && !click) {
                    Eigen::Vector2d to = sample->at;
                    (curve_ == Curve::x ? to.x() : to.y()) =
                        draggedTo_ + base_ - double(curve_ == Curve::x ? sample->carried.x() : sample->carried.y());
                    workspace_.placeTie(
                        track->id, frame, to,
                        QString("Move the tie of %1 on %2").arg(QString::fromStdString(track->name)).arg(frame));
                } else if (sample) {
                    workspace_.goTo(frame);
                }
                return true;
            }
            if (click && workspace_.hasPlate())
                workspace_.goTo(int(std::lround(plot_->xAxis->pixelToCoord(mouse->position().x()))));
            break;
        }
        case QEvent::MouseButtonDblClick:
            fit();
            return true;
        default:
            break;
    }
    return QWidget::eventFilter(watched, event);
}

}  // namespace pinion
