#pragma once

#include "canvas/sight.h"
#include "session/session.h"

#include <QObject>

namespace pinion {

/// The canvas stays on a track, the picture moving around it.
class Follow : public QObject, public Sight {
    Q_OBJECT
public:
    explicit Follow(Session& session);
    TrackId track() const { return track_; }  ///< 0: none
    void set(TrackId track);

    QString name() const override { return "held"; }
    bool isView() const override { return false; }
    PlateWarp warpAt(int frame) const override;
    QString words(int frame) const override;

signals:
    void changed();

private:
    Session& session_;
    TrackId track_ = 0;
    Eigen::Vector2d at_{0, 0};  ///< where it is held
};

}  // namespace pinion
