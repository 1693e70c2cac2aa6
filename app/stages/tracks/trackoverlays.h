#pragma once

#include "canvas/canvas.h"
#include "stages/tracks/candidates.h"
#include "stages/tracks/spots.h"
#include "stages/tracks/trackhand.h"

namespace pinion {

struct SolvedTrack;

/// The tracks of the frame: dots and register marks, trails, the selected one's areas and its name.
class TracksOverlay : public Overlay {
public:
    TracksOverlay(const Session& session, const TrackHand& hand, const Canvas& canvas)
        : session_(session), hand_(hand), canvas_(canvas) {}
    Layer layer() const override { return Layer::tracks; }
    void paint(QPainter& painter, const PlateView& view) override;

private:
    bool standsOut(const Track& track) const;
    QColor colourOf(const Track& track, const SolvedTrack* solved) const;
    void paintPlain(QPainter& painter, const PlateView& view, const Track& track, bool crowded) const;
    void paintMarked(QPainter& painter, const PlateView& view, const Track& track, bool many) const;
    void paintOffset(QPainter& painter, const PlateView& view, const Track& track, const QPointF& at,
                     const QColor& colour) const;
    void paintAreas(QPainter& painter, const PlateView& view, const Track& track, const Eigen::Vector2d& at) const;
    void paintName(QPainter& painter, const Track& track, const QPointF& at) const;

    const Session& session_;
    const TrackHand& hand_;
    const Canvas& canvas_;
};

/// The points of the job that runs, as they come.
class LivePointsOverlay : public Overlay {
public:
    explicit LivePointsOverlay(const Session& session) : session_(session) {}
    Layer layer() const override { return Layer::tracks; }
    void paint(QPainter& painter, const PlateView& view) override;

private:
    const Session& session_;
};

/// Where a scatter would start.
class CandidatesOverlay : public Overlay {
public:
    explicit CandidatesOverlay(const Candidates& candidates) : candidates_(candidates) {}
    Layer layer() const override { return Layer::marks; }
    void paint(QPainter& painter, const PlateView& view) override;

private:
    const Candidates& candidates_;
};

/// The proposed spots, numbered from the best.
class SpotsOverlay : public Overlay {
public:
    SpotsOverlay(const Session& session, const Spots& spots) : session_(session), spots_(spots) {}
    Layer layer() const override { return Layer::notes; }
    void paint(QPainter& painter, const PlateView& view) override;

private:
    const Session& session_;
    const Spots& spots_;
};

}  // namespace pinion
