#pragma once

#include "planar/planartracking.h"
#include "stages/planes/planehand.h"
#include "stages/stage.h"

#include <functional>
#include <memory>
#include <vector>

namespace pinion {

class PlanesOverlay;
class PlaneStrip;
struct ProofSubject;

/// Surfaces that are followed by their texture, and what hangs on them.
class PlanesStage : public Stage {
    Q_OBJECT
public:
    explicit PlanesStage(Session& session);
    ~PlanesStage() override;
    QString id() const override { return "planes"; }
    QString title() const override { return "Planes"; }
    StageReport report() const override;
    QWidget* makeCard() override;
    void furnish(const Desk& desk) override;
    void enter() override;
    void leave() override;

    PlaneHand hand;

    // What the card's buttons do; each says why when it cannot.
    void takeTool(const QString& tool);
    /// The held plane, or all of them, from the frame that is shown (its reference where it is not there).
    void track(Direction direction, int steps = 0, bool all = false);
    /// From the correction on this frame, in one direction.
    void trackAnew(Direction direction);
    /// The surface from the outline: its own corners when it has four, else those of the box about it.
    void surfaceFromOutline();
    /// A cylinder becomes a plane again.
    void makeFlat();
    /// The held plane by the solved scene in place of its texture.
    void takeFromScene();
    /// The surface's corners as point tracks, by which they join the camera solve.
    void cornersAsTracks();
    void look(const QString& view);
    QString looked() const;
    /// A locator and a corner pin among the deliverables.
    void handOn();
    void copyCornerPin();
    /// A matte of the outline that rides on the plane.
    void addMatte();
    /// The picture held still on the plane.
    void steadyOn();
    /// What was changed on the rendered surface, put back over the plate.
    void putBackSurface(const std::filesystem::path& changed);
    void renderSquared(const std::string& pattern, int width, int height);

signals:
    void viewChanged();

private:
    void addTools(const Desk& desk);
    void addCommands(const Desk& desk);
    void startTracking(std::vector<PlaneId> planes, Direction direction, int steps, bool anew);
    QString whyNoPlane() const;
    void refreshSheet();
    void refreshProof();

    PlanesOverlay* overlay_ = nullptr;  ///< the canvas owns it
    PlaneStrip* strip_ = nullptr;       ///< the sheet owns it
};

}  // namespace pinion
