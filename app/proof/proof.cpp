#include "proof/proof.h"

#include "widgets/theme.h"

#include <QMouseEvent>
#include <QPainter>
#include <QToolButton>

#include <algorithm>
#include <cmath>

namespace pinion {
namespace {

constexpr int kMargin = 10;
constexpr int kGap = 8;
constexpr int kCaption = 18;
constexpr int kTop = 34;
constexpr int kShown = 192;  // pixels of a patch as it is kept

/// A crop of whole pixels about a place; black beyond the picture.
Picture cropped(const Picture& picture, int left, int top, int side) {
    Picture crop{side, side, picture.depth, picture.linear, {}, {}};
    const auto copy = [&](const auto& from, auto& to) {
        to.resize(std::size_t(side) * std::size_t(side) * 3);
        for (int y = 0; y < side; ++y)
            for (int x = 0; x < side; ++x) {
                const int fx = left + x;
                const int fy = top + y;
                if (fx < 0 || fy < 0 || fx >= picture.width || fy >= picture.height) continue;
                for (std::size_t c = 0; c < 3; ++c)
                    to[(std::size_t(y) * std::size_t(side) + std::size_t(x)) * 3 + c] =
                        from[(std::size_t(fy) * std::size_t(picture.width) + std::size_t(fx)) * 3 + c];
            }
    };
    if (crop.depth == Picture::Depth::bits8) copy(picture.bytes, crop.bytes);
    else copy(picture.floats, crop.floats);
    return crop;
}

/// The patch about a track's place, which, to the fraction of a pixel, is the middle of every patch.
QImage heldStill(const Picture& picture, const Eigen::Vector2d& at, double reach, const ViewTransform& view) {
    // A whole-pixel crop a little larger than shown; the fraction is left to the drawing.
    const int left = int(std::floor(at.x() - reach)) - 1;
    const int top = int(std::floor(at.y() - reach)) - 1;
    const int side = int(std::ceil(2 * reach)) + 3;
    const auto pixels = displayPixels(cropped(picture, left, top, side), view);
    const QImage raw(reinterpret_cast<const uchar*>(pixels.data()), side, side, QImage::Format_RGB32);
    QImage still(kShown, kShown, QImage::Format_RGB32);
    QPainter painter(&still);
    painter.setRenderHint(QPainter::SmoothPixmapTransform);
    painter.drawImage(QRectF(0, 0, kShown, kShown), raw,
                      QRectF(at.x() - reach - left, at.y() - reach - top, 2 * reach, 2 * reach));
    return still;
}

}  // namespace

ProofStrip::ProofStrip(Session& session, QWidget* parent) : QWidget(parent), session_(session), work_(session.jobs) {
    setObjectName("proof");
    setMinimumWidth(140);
    setAccessibleName("Proof");
    setMouseTracking(true);
    differenceButton_ = new QToolButton(this);
    differenceButton_->setText("Difference");
    differenceButton_->setObjectName("proofDifference");
    differenceButton_->setCheckable(true);
    differenceButton_->setFocusPolicy(Qt::TabFocus);
    differenceButton_->setToolTip(
        "Show what differs from the reference: dark where the patch fits, bright edges where it has walked");
    connect(differenceButton_, &QToolButton::toggled, this, [this](bool on) { setDifference(on); });
    settle_.setSingleShot(true);
    settle_.setInterval(40);
    connect(&settle_, &QTimer::timeout, this, [this] { request(); });
    connect(&session.document, &Document::changed, this, [this] { refresh(); });
    connect(&session.selection, &Selection::changed, this, [this] { refresh(); });
    connect(&session.player, &Player::frameChanged, this, [this] { refresh(); });
    connect(&session.player, &Player::plateChanged, this, [this] {
        patches_.clear();
        refresh();
    });
}

void ProofStrip::setDifference(bool shown) {
    difference_ = shown;
    differenceButton_->setChecked(shown);
    update();
}

/// Against the reference patch, after both are brought to the same mean: a change of light alone is no difference.
QImage ProofStrip::differenceOf(const QImage& patch) const {
    const Track* track = this->track();
    const int frame = subject_ ? subject_->referenceFrame : track ? track->referenceFrame : 0;
    const auto reference = patches_.find(frame);
    if (reference == patches_.end() || reference->second.image.size() != patch.size()) return patch;
    return differenceTo(reference->second.image, patch);
}

QImage ProofStrip::differenceTo(const QImage& other, const QImage& patch) const {
    const auto meanOf = [](const QImage& image) {
        qint64 sum = 0;
        for (int y = 0; y < image.height(); y += 2)
            for (int x = 0; x < image.width(); x += 2) sum += qGray(image.pixel(x, y));
        return int(sum / std::max(1, ((image.width() + 1) / 2) * ((image.height() + 1) / 2)));
    };
    const int offset = meanOf(other) - meanOf(patch);
    QImage result(patch.size(), QImage::Format_RGB32);
    for (int y = 0; y < patch.height(); ++y) {
        const auto* a = reinterpret_cast<const QRgb*>(patch.constScanLine(y));
        const auto* b = reinterpret_cast<const QRgb*>(other.constScanLine(y));
        auto* out = reinterpret_cast<QRgb*>(result.scanLine(y));
        for (int x = 0; x < patch.width(); ++x) {
            const int value = std::min(255, 3 * std::abs(qGray(a[x]) + offset - qGray(b[x])));
            out[x] = qRgb(value, value * 9 / 10, value * 8 / 10);
        }
    }
    return result;
}

const Track* ProofStrip::track() const { return session_.selection.first(); }

/// The frames shown: here, the reference, ties, the worst two, and even steps from end to end.
std::vector<int> ProofStrip::framesOf(const Track& track) const {
    std::vector<int> order{session_.player.frame()};
    const auto add = [&](int frame) {
        if (sampleAt(track, frame) && std::find(order.begin() + 1, order.end(), frame) == order.end())
            order.push_back(frame);
    };
    add(track.referenceFrame);
    int ties = 0;
    for (const Sample& sample : track.samples)
        if (sample.tie && ++ties <= 4) add(sample.frame);
    // The worst two, wherever they are; then even steps from end to end.
    std::vector<Sample> byScore = track.samples.vector();
    std::sort(byScore.begin(), byScore.end(), [](const Sample& a, const Sample& b) { return a.score < b.score; });
    for (std::size_t i = 0; i < std::min<std::size_t>(2, byScore.size()); ++i)
        if (!byScore[i].tie && !byScore[i].bridged) add(byScore[i].frame);
    const int room =
        std::max(2, 2 * ((height() - kTop - 190) / std::max(60, (width() - 2 * kMargin - kGap) / 2 + kCaption + kGap)));
    for (int i = 0; i < room && int(order.size()) <= room; ++i)
        add(track.samples[std::size_t(i) * (track.samples.size() - 1) / std::size_t(std::max(1, room - 1))].frame);
    if (order.size() > 2) std::sort(order.begin() + 1, order.end());
    return order;
}

void ProofStrip::setSubject(std::shared_ptr<const ProofSubject> subject) {
    const bool same = subject && subject_ && subject->version == subject_->version;
    if (!subject && !subject_) return;
    subject_ = std::move(subject);
    if (!same) patches_.clear();
    refresh();
}

void ProofStrip::refreshSubject() {
    shown_ = 0;
    order_ = {session_.player.frame()};
    const int room =
        std::max(2, 2 * ((height() - kTop - 190) / std::max(60, (width() - 2 * kMargin - kGap) / 2 + kCaption + kGap)));
    for (const int frame : subject_->frames)
        if (int(order_.size()) <= room && std::find(order_.begin() + 1, order_.end(), frame) == order_.end())
            order_.push_back(frame);
    std::sort(order_.begin() + 1, order_.end());
    settle_.start();
    update();
}

void ProofStrip::requestSubject() {
    if (!session_.hasPlate() || session_.player.isPlaying()) return;
    std::vector<int> wanted = order_;
    wanted.push_back(subject_->referenceFrame);
    const auto missing = std::find_if(wanted.begin(), wanted.end(),
                                      [&](int frame) { return !patches_.contains(frame) && subject_->isThere(frame); });
    if (missing == wanted.end()) return;
    const double ratio = std::clamp(subject_->widthOverHeight, 0.25, 4.0);
    const QSize size = ratio >= 1 ? QSize(kShown, int(kShown / ratio)) : QSize(int(kShown * ratio), kShown);
    work_.start([this, cache = session_.player.sharedFrames(), subject = subject_, frame = *missing, size,
                 view = session_.player.view()](const Progress&) -> std::function<void()> {
        const auto picture = cache->get(frame);
        const QImage image = picture ? subject->cut(**picture, frame, size, view) : QImage();
        return [this, subject, frame, patch = Patch{image, {0, 0}}] {
            if (!subject_) return;
            if (subject->version == subject_->version) patches_[frame] = patch;
            update();
            requestSubject();
        };
    });
}

void ProofStrip::paintSubject(QPainter& painter) {
    for (std::size_t i = 0; i < order_.size() && cellRect(i).top() <= height(); ++i) {
        const QRect cell = cellRect(i);
        const int frame = order_[i];
        painter.fillRect(cell, QColor(0x16, 0x16, 0x16));
        const auto patch = patches_.find(frame);
        const bool there = subject_->isThere(frame);
        if (patch != patches_.end() && !patch->second.image.isNull()) {
            const QImage shown = difference_ ? differenceOf(patch->second.image) : patch->second.image;
            const QSize size = shown.size().scaled(cell.size(), Qt::KeepAspectRatio);
            painter.setRenderHint(QPainter::SmoothPixmapTransform);
            painter.drawImage(QRect(cell.center() - QPoint(size.width() / 2, size.height() / 2), size), shown);
        } else if (!there || patch != patches_.end()) {
            painter.setPen(theme::kDim);
            painter.drawText(cell, Qt::AlignCenter, there ? "not readable" : "not tracked");
        }
        const double badness = there ? subject_->badness(frame) : 0;
        if (badness > 0.5) {
            painter.setPen(QPen(theme::fitColour(badness), 1.5));
            painter.drawRect(cell);
        }
        QFont small = font();
        small.setPixelSize(i == 0 ? 11 : 10);
        painter.setFont(small);
        const QRect caption(cell.left(), cell.bottom() + 3, cell.width(), kCaption - 2);
        painter.setPen(i == 0 ? theme::kText : theme::kDim);
        painter.drawText(caption, Qt::AlignLeft | Qt::AlignVCenter,
                         i == 0 ? QString("%1 · here").arg(frame) : QString::number(frame));
        if (!there) continue;
        painter.setPen(badness > 0.5 ? theme::fitColour(badness) : theme::kDim);
        painter.drawText(caption, Qt::AlignRight | Qt::AlignVCenter, subject_->words(frame));
    }
}

void ProofStrip::refresh() {
    if (subject_) {
        refreshSubject();
        return;
    }
    const Track* track = this->track();
    if (!track || track->samples.isEmpty() || !session_.hasPlate()) {
        shown_ = 0;
        order_.clear();
        patches_.clear();
        update();
        return;
    }
    if (track->id != shown_) patches_.clear();
    shown_ = track->id;
    order_ = framesOf(*track);
    // Patches cut before the track moved there are old.
    std::erase_if(patches_, [&](const auto& entry) {
        const Sample* sample = sampleAt(*track, entry.first);
        return !sample || (sample->at - entry.second.at).norm() > 1e-6;
    });
    settle_.start();
    update();
}

/// Cuts the next patch that is missing; each comes as it is ready.
void ProofStrip::request() {
    if (subject_) {
        requestSubject();
        return;
    }
    const Track* track = this->track();
    if (!track || !session_.hasPlate() || session_.player.isPlaying()) return;
    const auto missing = std::find_if(order_.begin(), order_.end(),
                                      [&](int frame) { return !patches_.contains(frame) && sampleAt(*track, frame); });
    if (missing == order_.end()) return;
    work_.start([this, cache = session_.player.sharedFrames(), sample = *sampleAt(*track, *missing),
                 reach = marginPlate(*track), id = track->id,
                 view = session_.player.view()](const Progress&) -> std::function<void()> {
        const auto picture = cache->get(sample.frame);
        const QImage image = picture ? heldStill(**picture, sample.at, reach, view) : QImage();
        return [this, id, frame = sample.frame, patch = Patch{image, sample.at}] {
            if (id == shown_) patches_[frame] = patch;
            update();
            request();
        };
    });
}

QRect ProofStrip::cellRect(std::size_t index) const {
    const int wide = width() - 2 * kMargin;
    const int large = std::min(wide, 150);
    if (index == 0) return {kMargin, kTop, wide, large};
    const int small = (wide - kGap) / 2;
    const int row = int(index - 1) / 2;
    const int column = int(index - 1) % 2;
    return {kMargin + column * (small + kGap), kTop + large + kCaption + kGap + row * (small + kCaption + kGap), small,
            small};
}

void ProofStrip::resizeEvent(QResizeEvent*) {
    differenceButton_->setGeometry(width() - kMargin - 78, height() - 30, 78, 22);
    refresh();
}

void ProofStrip::paintEvent(QPaintEvent*) {
    QPainter painter(this);
    painter.fillRect(rect(), theme::kPanel);
    QFont bold = font();
    bold.setWeight(QFont::DemiBold);
    painter.setFont(bold);
    painter.setPen(theme::kText);
    painter.drawText(QRect(kMargin, 8, width() - 2 * kMargin, 18), Qt::AlignLeft | Qt::AlignVCenter, "Proof");
    painter.setFont(font());
    const Track* track = this->track();
    differenceButton_->setVisible(track || subject_);
    painter.setPen(theme::kDim);
    if (subject_) {
        painter.drawText(QRect(kMargin + 44, 8, width() - 2 * kMargin - 44, 18), Qt::AlignRight | Qt::AlignVCenter,
                         fontMetrics().elidedText(subject_->name, Qt::ElideRight, width() - 2 * kMargin - 50));
        paintSubject(painter);
        return;
    }
    if (!track) {
        painter.drawText(QRect(kMargin, 40, width() - 2 * kMargin, 80), Qt::AlignLeft | Qt::TextWordWrap,
                         "Select a track: its patch is shown here on many frames, held still. A drift shows as a "
                         "picture that walks.");
        return;
    }
    painter.drawText(
        QRect(kMargin + 44, 8, width() - 2 * kMargin - 44, 18), Qt::AlignRight | Qt::AlignVCenter,
        fontMetrics().elidedText(QString::fromStdString(track->name), Qt::ElideRight, width() - 2 * kMargin - 50));
    for (std::size_t i = 0; i < order_.size() && cellRect(i).top() <= height(); ++i) {
        paintPatch(painter, *track, i);
        paintCaption(painter, *track, i);
    }
}

void ProofStrip::paintPatch(QPainter& painter, const Track& track, std::size_t index) const {
    const QRect cell = cellRect(index);
    const int frame = order_[index];
    painter.fillRect(cell, QColor(0x16, 0x16, 0x16));
    const auto patch = patches_.find(frame);
    if (patch == patches_.end() || patch->second.image.isNull()) {
        painter.setPen(theme::kDim);
        if (!sampleAt(track, frame)) painter.drawText(cell, Qt::AlignCenter, "not tracked here");
        else if (patch != patches_.end()) painter.drawText(cell, Qt::AlignCenter, "not readable");
        return;
    }
    painter.setRenderHint(QPainter::SmoothPixmapTransform);
    // The loupe and the dragged cell show the drag: the picture goes with the hand, the cross stays.
    const bool follows =
        draggedCell_ >= 0 && (int(index) == draggedCell_ || order_[std::size_t(draggedCell_)] == frame);
    const double perPlate = patch->second.image.width() / (2 * marginPlate(track));
    const QPointF by = follows ? QPointF(draggedBy_.x(), draggedBy_.y()) * perPlate : QPointF(0, 0);
    const QImage shown = difference_ && !follows ? differenceOf(patch->second.image) : patch->second.image;
    // Large, it is a loupe: half as much around the cross, twice the size.
    const double part = index == 0 ? 0.5 : 1.0;
    const double wide = shown.width() * part;
    const double high = wide * cell.height() / cell.width();
    painter.drawImage(cell, shown,
                      QRectF((shown.width() - wide) / 2 - by.x(), (shown.height() - high) / 2 - by.y(), wide, high));
    painter.setRenderHint(QPainter::Antialiasing);
    const QPointF c = QPointF(cell.center()) + QPointF(0.5, 0.5);
    for (const bool shadow : {true, false}) {
        painter.setPen(shadow ? QPen(QColor(0, 0, 0, 140), 3) : QPen(QColor(0xf0, 0xb8, 0x4a), 1));
        for (const auto& [x, y] : {std::pair{1, 0}, {-1, 0}, {0, 1}, {0, -1}})
            painter.drawLine(c + QPointF(2 * x, 2 * y), c + QPointF(9 * x, 9 * y));
    }
    painter.setRenderHint(QPainter::Antialiasing, false);
}

void ProofStrip::paintCaption(QPainter& painter, const Track& track, std::size_t index) const {
    const QRect cell = cellRect(index);
    const int frame = order_[index];
    const Sample* sample = sampleAt(track, frame);
    const double badness = sample && !sample->tie ? theme::badnessOfScore(sample->score) : 0;
    if (badness > 0.5) {
        painter.setPen(QPen(theme::fitColour(badness), 1.5));
        painter.drawRect(cell);
    }
    QFont small = font();
    small.setPixelSize(index == 0 ? 11 : 10);
    painter.setFont(small);
    const QRect caption(cell.left(), cell.bottom() + 3, cell.width(), kCaption - 2);
    painter.setPen(index == 0 ? theme::kText : theme::kDim);
    painter.drawText(caption, Qt::AlignLeft | Qt::AlignVCenter,
                     index == 0 ? QString("%1 · here").arg(frame) : QString::number(frame));
    if (!sample) return;
    painter.setPen(badness > 0.5 ? theme::fitColour(badness) : theme::kDim);
    painter.drawText(caption, Qt::AlignRight | Qt::AlignVCenter,
                     sample->tie       ? "tie"
                     : sample->bridged ? "bridged"
                                       : QString::number(sample->score, 'f', 3));
}

void ProofStrip::mousePressEvent(QMouseEvent* event) {
    for (std::size_t i = 0; i < order_.size(); ++i)
        if (cellRect(i).contains(event->position().toPoint())) {
            draggedCell_ = int(i);
            dragFrom_ = event->position();
            draggedBy_.setZero();
            return;
        }
}

void ProofStrip::mouseMoveEvent(QMouseEvent* event) {
    if (draggedCell_ < 0 || subject_) return;
    const Track* track = this->track();
    const QRect cell = cellRect(std::size_t(draggedCell_));
    const QPointF by = event->position() - dragFrom_;
    if (!track || (draggedBy_.isZero() && by.manhattanLength() < 3)) return;
    // Half as fast as the hand: a correction is a matter of fractions of a pixel.
    const double platePerScreen = 2 * marginPlate(*track) * (draggedCell_ == 0 ? 0.5 : 1.0) / cell.width();
    draggedBy_ = 0.5 * platePerScreen * Eigen::Vector2d(by.x(), by.y());
    update();
}

void ProofStrip::mouseReleaseEvent(QMouseEvent*) {
    const int cell = draggedCell_;
    draggedCell_ = -1;
    if (cell < 0 || cell >= int(order_.size())) return;
    const int frame = order_[std::size_t(cell)];
    const Track* track = subject_ ? nullptr : this->track();
    const Sample* sample = track ? sampleAt(*track, frame) : nullptr;
    if (draggedBy_.isZero()) {
        session_.player.goTo(frame);
    } else if (!sample || track->locked || session_.isBusy()) {
        session_.say(!sample ? "The track is not there on this frame."
                     : track->locked
                         ? QString("%1 is locked. Unlock it to move it.").arg(QString::fromStdString(track->name))
                         : QString("A job is running. Stop it or wait to correct."));
    } else {
        // The picture went one way, so the place in it goes the other.
        session_.ties.place(track->id, frame, sample->at - draggedBy_,
                            QString("Correct %1 on %2").arg(QString::fromStdString(track->name)).arg(frame));
    }
    draggedBy_.setZero();
    update();
}

}  // namespace pinion
