#pragma once

#include "canvas/overlay.h"
#include "session/derived.h"
#include "session/session.h"
#include "steady/movers.h"

#include <QObject>

#include <vector>

namespace pinion {

/// Areas that move by themselves, offered as mattes until they are accepted or dismissed.
class Proposals : public QObject {
    Q_OBJECT
public:
    explicit Proposals(Session& session);

    const std::vector<MoverProposal>& list() const { return proposals_; }
    /// Looks for them as a job that is seen.
    void start();
    /// Looks for them beside the interface, once for each solve, while somebody looks at the mattes.
    void want();
    bool isLooking() const { return found_.isPending(); }
    /// Whether there was a look at the present solve.
    bool haveLooked() const { return looked_; }
    void accept(std::size_t proposal);
    void dismiss(std::size_t proposal);

    /// The solve before the last acceptance and the one since, in words; empty while there are not both.
    QString beforeAndAfter() const;

    /// The outline on a frame; empty where it is not seen.
    Polygon outline(std::size_t proposal, int frame) const;

signals:
    void changed();
    void accepted(const QString& name);

private:
    void take(std::vector<MoverProposal> proposals);

    Session& session_;
    std::vector<MoverProposal> proposals_;
    bool looked_ = false;
    std::shared_ptr<const Solve> before_;  ///< when one was accepted last
    Derived<std::vector<MoverProposal>, std::uint64_t> found_;
};

/// Their outlines, dashed, each with its reason.
class ProposalsOverlay : public Overlay {
public:
    ProposalsOverlay(const Session& session, const Proposals& proposals) : session_(session), proposals_(proposals) {}
    Layer layer() const override { return Layer::notes; }
    void paint(QPainter& painter, const PlateView& view) override;

private:
    const Session& session_;
    const Proposals& proposals_;
};

}  // namespace pinion
