#pragma once

#include "workspace.h"

#include <QWidget>

class QCustomPlot;
class QComboBox;
class QCPItemStraightLine;
class QLabel;

namespace pinion {

/// The selected tracks over time: x, y, speed, score or error; the shake that is taken or lent, or the focal
/// length of the solve. Wheel zooms, a drag pans, a
/// click goes to the frame, a tie is dragged to correct it.
class CurvesPanel : public QWidget {
    Q_OBJECT
public:
    enum class Curve { x, y, speed, score, error, shake, focal };

    explicit CurvesPanel(Workspace& workspace, QWidget* parent = nullptr);
    void setCurve(Curve curve);
    Curve curve() const { return curve_; }
    QCustomPlot& plot() { return *plot_; }
    int curveCount() const;  ///< drawn now
    void fit();

signals:
    void curveChanged(Curve curve);

protected:
    bool eventFilter(QObject* watched, QEvent* event) override;
    void showEvent(QShowEvent*) override;

private:
    void rebuild();
    void rebuildShake();
    void rebuildFocal();
    void movePlayhead();
    /// Of several tracks places are shown since their reference frames, or each would be a flat line far from the
    /// others.
    double baseOf(const Track& track) const;
    double valueOf(const Track& track, std::size_t sample) const;
    /// The tie of the first selected track under the cursor; none where there is none.
    std::optional<int> tieAt(const QPointF& at) const;

    Workspace& workspace_;
    QCustomPlot* plot_;
    QCPItemStraightLine* playhead_;
    QLabel* empty_;
    Curve curve_ = Curve::x;
    bool fitted_ = true;
    std::optional<int> draggedTie_;
    double draggedTo_ = 0;
    double base_ = 0;  ///< what is taken off the first track's values
    QPointF pressed_;
};

}  // namespace pinion
