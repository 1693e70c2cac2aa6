#include "stages/mattes/proposals.h"

#include "canvas/marks.h"
#include "canvas/plateview.h"
#include "jobs/proposing.h"
#include "shot/stages/camerastage.h"
#include "matte/riding.h"
#include "shot/carriers/carriers.h"

#include <QPainter>

namespace pinion {
namespace {

QString figuresOf(const Solve& solve) {
    return QString("%1 px, %2, %3 disagree")
        .arg(solve.rms_px, 0, 'f', 3)
        .arg(text(heldOutWords(solve, 3)))
        .arg(solve.disagreed);
}

}  // namespace

Proposals::Proposals(Session& session)
    : session_(session), found_(session.jobs, [this] {
          if (found_.value() && !found_.isPending()) take(*found_.value());
          emit changed();
      }) {
    connect(&session.document, &Document::replaced, this, [this] {
        found_.clear();
        proposals_.clear();
        looked_ = false;
        before_.reset();
        emit changed();
    });
}

void Proposals::take(std::vector<MoverProposal> proposals) {
    proposals_ = std::move(proposals);
    looked_ = true;
}

void Proposals::start() {
    const Shot shot = session_.shot();
    session_.jobs.start(Job<std::vector<MoverProposal>>{
        .name = "Looking for what moves",
        .frames = shot.plate.range.count(),
        .run = [shot, frames = session_.player.sharedFrames()](
                   const JobLink& link) { return runPropose(shot, *frames, link.progress); },
        .merge =
            [this](std::vector<MoverProposal>& found) {
                take(std::move(found));
                session_.say(proposals_.empty() ? QString("Nothing moves by itself that is large enough to see.")
                             : proposals_.size() == 1
                                 ? "One area moves by itself: " + text(proposals_.front().reason) + "."
                                 : QString("%1 areas move by themselves.").arg(proposals_.size()));
                emit changed();
            }});
}

void Proposals::want() {
    const Shot& shot = session_.shot();
    if (!shot.solve || !session_.hasPlate() || session_.isBusy() || shot.solvedKey != solveKey(shot)) return;
    // What was accepted is in the mattes; looking again would find it again.
    if (!shot.mattes.isEmpty()) return;
    found_.want(shot.solvedKey, [shot, frames = session_.player.sharedFrames()](const Progress& progress) {
        return runPropose(shot, *frames, progress);
    });
}

void Proposals::accept(std::size_t place) {
    if (place >= proposals_.size() || !session_.isReady()) return;
    const MoverProposal accepted = proposals_[place];
    const Shot& shot = session_.shot();
    before_ = shot.solve;
    session_.edit("Accept " + text(accepted.matte.name), withMoverAccepted(shot, accepted));
    const QString name = text(session_.shot().mattes.back().name);
    dismiss(place);
    emit this->accepted(name);
}

void Proposals::dismiss(std::size_t place) {
    if (place >= proposals_.size()) return;
    proposals_.erase(proposals_.begin() + std::ptrdiff_t(place));
    emit changed();
}

QString Proposals::beforeAndAfter() const {
    const auto& now = session_.shot().solve;
    if (!before_) return {};
    if (!now || now == before_) return "Solve again to see what it changes: before, " + figuresOf(*before_) + ".";
    return "Solve before: " + figuresOf(*before_) + ".\nWith the mattes: " + figuresOf(*now) + ".";
}

Polygon Proposals::outline(std::size_t place, int frame) const {
    if (place >= proposals_.size() || !proposals_[place].frames.holds(frame)) return {};
    const Matte& matte = proposals_[place].matte;
    if (!matte.ride) return outlineAt(matte, frame);
    const auto carrier = carrierOf(shotOf(proposals_[place]), *matte.ride);
    return flattened(*riddenShape(matte, frame, carrier.get()));
}

void ProposalsOverlay::paint(QPainter& painter, const PlateView& view) {
    for (std::size_t i = 0; i < proposals_.list().size(); ++i) {
        const Polygon outline = proposals_.outline(i, session_.player.frame());
        if (outline.empty()) continue;
        const QPainterPath path = view.line(outline, true);
        painter.setBrush(QColor(240, 123, 91, 26));
        for (const bool shadow : {true, false}) {
            QPen pen(shadow ? QColor(0, 0, 0, 150) : theme::kCoral, shadow ? 3.2 : 1.6);
            if (!shadow) pen.setDashPattern({6, 4});
            painter.setPen(pen);
            painter.drawPath(path);
        }
        const MoverProposal& one = proposals_.list()[i];
        const QRectF seen = path.boundingRect().intersected(view.frameOnScreen());
        if (!seen.isEmpty())
            drawLabel(painter, seen.topLeft() + QPointF(6, 6), text(one.matte.name) + "? " + text(one.reason),
                      theme::kCoral);
    }
}

}  // namespace pinion
