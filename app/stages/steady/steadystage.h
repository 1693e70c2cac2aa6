#pragma once

#include "comp/putback.h"
#include "session/derived.h"
#include "shot/stages/steadystage.h"
#include "stages/stage.h"

#include <filesystem>
#include <functional>

namespace pinion {

class SteadySight;

/// The picture held still or eased, a shake taken and lent, and the rendering of both.
class SteadyStage : public Stage {
    Q_OBJECT
public:
    explicit SteadyStage(Session& session);
    QString id() const override { return "steady"; }
    QString title() const override { return "Steady"; }
    StageReport report() const override;
    QWidget* makeCard() override;
    void furnish(const Desk& desk) override;
    bool take(Errand errand) override;

    /// The steadied or shaken picture of the present shot, worked out beside the interface; null while there is none.
    std::shared_ptr<const PicturePlan> plan() const { return plan_.value(); }
    const QString& planProblem() const { return plan_.problem(); }
    bool planPending() const { return plan_.isPending(); }

    void startRender(const std::filesystem::path& pattern);
    /// Frames that were rendered here and changed elsewhere go back over the plate, beside what is rendered:
    /// "name.back.####.ext", of the kind the changed frames are.
    void putBack(const std::filesystem::path& changed, bool byAlpha);
    void startTakeShake(double above_hz, const std::function<void(const ShakeProfile&)>& done);
    /// A locator on the selected tracks, refused with the reason where their motion does not give one.
    bool hangOn(MotionKind kind);

signals:
    void planChanged();

private:
    void refreshPlan();
    void addViews(const Desk& desk);
    void addSteadyCommands(const Desk& desk);
    void addLocatorCommands(const Desk& desk);

    Derived<PicturePlan, std::uint64_t> plan_;
};

}  // namespace pinion
