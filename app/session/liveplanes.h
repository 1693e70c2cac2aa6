#pragma once

#include "planar/planartrack.h"

#include <QObject>

#include <map>
#include <utility>

namespace pinion {

/// Planar tracks as the frame that is shown has them at this moment: where a job is tracking them, or a surface is
/// dragged. Who moves them tells it here, and who shows what hangs on them looks here.
class LivePlanes : public QObject {
    Q_OBJECT
public:
    const std::map<PlaneId, PlanarTrack>& now() const { return now_; }
    void set(std::map<PlaneId, PlanarTrack> now) {
        if (now.empty() && now_.empty()) return;
        now_ = std::move(now);
        emit changed();
    }

signals:
    void changed();

private:
    std::map<PlaneId, PlanarTrack> now_;
};

}  // namespace pinion
