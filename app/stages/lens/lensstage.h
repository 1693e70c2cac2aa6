#pragma once

#include "jobs/lensing.h"
#include "lens/lines.h"
#include "session/derived.h"
#include "stages/stage.h"

#include <filesystem>
#include <memory>
#include <tuple>

namespace pinion {

class LensSights;
class LineTool;

/// The lens: from lines drawn on the plate, a chart, numbers or the solve; taken out and put back.
class LensStage : public Stage {
    Q_OBJECT
public:
    explicit LensStage(Session& session);
    ~LensStage() override;
    QString id() const override { return "lens"; }
    QString title() const override { return "Lens"; }
    StageReport report() const override;
    QWidget* makeCard() override;
    void furnish(const Desk& desk) override;

    /// What the lines say; null while there are too few, with the reason in `linesProblem`.
    const LinesLens* linesLens() const { return fit_.value().get(); }
    const QString& linesProblem() const { return fit_.problem(); }
    /// It is of the lines as they are now.
    bool isFitted() const;
    /// That lines lie on both sides of a cut, in words; empty when none do.
    QString cutWords() const;
    /// How far from straight a line of the card is, if it was fitted.
    std::optional<LineBend> bendOf(std::size_t line) const;

    void drawLines();
    void removeLine();
    void look(const QString& view);
    QString looked() const;
    /// The box that the undistorted picture fills with the card's overscan, or why there is none.
    const Expected<PixelBox>& undistortedBox() const;
    bool showsGrid() const { return grid_; }
    void setGrid(bool shown);

    /// Which picture of the chart is looked at, among the card's views.
    std::size_t chartView() const { return chartView_; }
    void lookAtChart(std::size_t view);
    /// A squeezed plate is stretched for the eye.
    bool isDesqueezed() const { return desqueezed_; }
    void setDesqueezed(bool stretched);

    void openLens();
    void askForMaps();
    void openMaps(const LensMaps& files);
    void saveLens();
    void takeFromSolve();
    void measureChart(const QStringList& pictures);
    void renderUndistorted(const std::filesystem::path& pattern);
    void redistort(const std::filesystem::path& pictures, const std::filesystem::path& pattern);

signals:
    void fitChanged();
    void viewChanged();  ///< what is looked at, or the grid

private:
    void addLineCommands(const Desk& desk);
    void addLensCommands(const Desk& desk);
    void startBending(const QString& name, int frames, const std::function<Expected<BentFrames>(const Progress&)>& bend,
                      const std::filesystem::path& pattern);
    void refreshFit();
    void takeFit();
    void refreshCuts();
    void refreshAspect();

    Derived<LinesLens, std::uint64_t> fit_;
    Derived<std::vector<int>, std::tuple<std::shared_ptr<FrameCache>, int, int>>
        cuts_;                                    ///< between the frames that hold lines
    std::vector<std::optional<LineBend>> bends_;  ///< of the card's lines, while they are those of the fit
    LineTool* lineTool_ = nullptr;
    std::unique_ptr<LensSights> sights_;
    std::size_t chartView_ = 0;
    bool grid_ = false;
    bool desqueezed_ = true;
};

}  // namespace pinion
