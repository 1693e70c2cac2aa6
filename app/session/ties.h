#pragma once

#include "session/livework.h"
#include "session/player.h"

#include <QObject>
#include <QTimer>

namespace pinion {

/// Ties placed by hand, each with the stretches on its two sides tracked again: one step for undo. Keys that nudge come
/// fast; the tracking waits until they rest, and runs in the live lane.
class Ties : public QObject {
    Q_OBJECT
public:
    Ties(Document& document, Player& player, JobRunner& jobs, Notes& notes);

    void place(TrackId track, int frame, const Eigen::Vector2d& to, const QString& name);
    /// The same for any edit after which the stretches around `frame` have to be tracked again.
    void edit(const QString& name, Shot shot, TrackId track, int frame);
    /// Waits, or is being tracked.
    bool isTracking() const { return timer_.isActive() || work_.isRunning(); }

private:
    void track();

    Document& document_;
    Player& player_;
    JobRunner& jobs_;
    Notes& notes_;
    LiveWork work_;
    QTimer timer_;
    QString name_;  ///< of the edit that placed it
    TrackId track_ = 0;
    int frame_ = 0;
};

}  // namespace pinion
