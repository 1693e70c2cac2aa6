#pragma once

#include "planar/surface.h"
#include "session/session.h"

#include <QObject>

#include <map>
#include <optional>

namespace pinion {

/// What the tools and views of planes hold: one planar track; a surface that is being dragged; where planes are while
/// they are tracked; what is drawn on surfaces. It never holds what is gone from the shot.
class PlaneHand : public QObject {
    Q_OBJECT
public:
    explicit PlaneHand(Session& session);

    std::optional<PlaneId> plane() const { return plane_; }
    /// Null when none is held.
    const PlanarTrack* held() const;
    void hold(std::optional<PlaneId> plane);
    /// Whether the held plane may be changed; says why not.
    bool mayEdit();

    /// The track as the frame that is shown has it at this moment: where a job is tracking it, the surface as it is
    /// dragged.
    PlanarTrack trackNow(const PlanarTrack& plane) const;
    std::optional<Quad> surfaceNow(const PlanarTrack& plane) const;
    std::optional<SurfacePose> poseNow(const PlanarTrack& plane) const;

    void setDraft(const std::optional<Quad>& corners);
    /// Where planes are on a frame, while a job tracks them.
    void setLive(int frame, std::map<PlaneId, PlaneSample> samples);
    void clearLive();

    bool grid() const { return grid_; }
    bool testPicture() const { return testPicture_; }
    void setGrid(bool shown);
    void setTestPicture(bool shown);

    /// The surface as placed or corrected on the frame that is shown. Says what is wrong with it.
    bool place(const Quad& corners, const QString& edit);

signals:
    void changed();

private:
    Session& session_;
    std::optional<PlaneId> plane_;
    std::optional<Quad> draft_;
    int liveFrame_ = 0;
    std::map<PlaneId, PlaneSample> live_;
    bool grid_ = false, testPicture_ = false;
};

}  // namespace pinion
