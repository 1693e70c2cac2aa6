#pragma once

#include "shot/object.h"
#include "stages/camera/solvelooker.h"
#include "stages/stage.h"

#include <memory>
#include <vector>

namespace pinion {

struct NextStep;
struct SolveView;

/// The camera: solved from the tracks, and the line that sets the worst of them aside.
class CameraStage : public Stage {
    Q_OBJECT
public:
    explicit CameraStage(Session& session);
    QString id() const override { return "camera"; }
    QString title() const override { return "Camera"; }
    StageReport report() const override;
    QWidget* makeCard() override;
    void furnish(const Desk& desk) override;
    void enter() override { looker.setOpen(true); }
    void leave() override {
        setTrimPreview(0);
        looker.setOpen(false);
    }

    /// `refines`: from the present solve on, without a search.
    void startSolve(bool refines = false);
    /// What the running solve has so far; null when none runs.
    std::shared_ptr<const SolveView> liveSolve() const { return live_; }

    /// The error in pixels above which solved tracks would be set aside; shown on the plate before it is done. 0: off.
    double trimPreview() const { return trimPreview_; }
    void setTrimPreview(double error_px);
    std::vector<TrackId> tracksAbove(double error_px) const;
    void setWorstAside();
    /// The tracks of the reason that is held.
    void setSuspectsAside();
    /// Suspects and worst tracks, as long as the error on held-out tracks falls by it; one edit, with the solve of what
    /// is left.
    void startSettingAside();
    /// Does what was said to be next.
    void takeStep(const NextStep& step);
    /// A matte about the tracks of what the solve told apart as moving, by its place in the list.
    void maskMover(std::size_t place);
    /// Solves for the camera that sees these tracks stand still.
    void solveSceneOf(const std::vector<TrackId>& tracks);
    void bringAllBack();
    /// These tracks as a thing of their own, solved against the camera.
    void addObject(const std::vector<TrackId>& tracks);
    void startObject(ObjectId object);

    SolveLooker looker;

signals:
    void liveChanged();
    void trimPreviewChanged();

private:
    void takeLive(std::shared_ptr<const SolveView> view);
    void addChoosing(const Desk& desk);

    std::shared_ptr<const SolveView> live_;
    double trimPreview_ = 0.0;
};

}  // namespace pinion
