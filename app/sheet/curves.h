#pragma once

#include "session/session.h"
#include "sheet/curve.h"

#include <QStringList>
#include <QWidget>

#include <memory>
#include <vector>

class QCustomPlot;
class QCPItemStraightLine;
class QLabel;
class QMouseEvent;

namespace pinion {

/// The selected tracks over time: x, y, speed, score or error; or a curve of the shot that a stage has added. Wheel
/// zooms, a drag pans, a click goes to the frame, a tie is dragged to correct it.
class CurvesPanel : public QWidget {
    Q_OBJECT
public:
    explicit CurvesPanel(Session& session, QWidget* parent = nullptr);
    ~CurvesPanel() override;

    void addCurve(std::unique_ptr<ShotCurve> curve);
    /// The names of all curves, as the choice of them lists.
    QStringList names() const;
    void setCurve(const QString& name);
    const QString& curve() const { return curve_; }
    QCustomPlot& plot() { return *plot_; }
    int curveCount() const;  ///< drawn now
    void fit();
    /// A curve of the shot has changed by itself.
    void refresh(const QString& name);

signals:
    void curveChanged(const QString& name);
    void curveAdded(const QString& name);

protected:
    bool eventFilter(QObject* watched, QEvent* event) override;
    void showEvent(QShowEvent*) override;

private:
    void dressPlot();
    void rebuild();
    std::size_t drawTracks();
    void drawTrack(const Track& track, std::size_t number);
    void drawLines(const std::vector<CurveLine>& lines);
    void setRanges(const std::pair<double, double>& frames, const std::pair<double, double>& values);
    void movePlayhead();
    const ShotCurve* shotCurve() const;
    bool press(const QPointF& at);
    bool move(const QPointF& at, bool dragging);
    bool release(const QPointF& at);
    /// Of several tracks places are shown since their reference frames, or each would be a flat line far from the
    /// others.
    double baseOf(const Track& track) const;
    double valueOf(const Track& track, std::size_t sample) const;
    /// The tie of the first selected track under the cursor; none where there is none.
    std::optional<int> tieAt(const QPointF& at) const;

    Session& session_;
    QCustomPlot* plot_;
    QCPItemStraightLine* playhead_;
    QLabel* empty_;
    std::vector<std::unique_ptr<ShotCurve>> shotCurves_;
    QString curve_ = "x";
    bool fitted_ = true;
    std::optional<int> draggedTie_;
    double draggedTo_ = 0;
    double base_ = 0;  ///< what is taken off the first track's values
    QPointF pressed_;
};

}  // namespace pinion
