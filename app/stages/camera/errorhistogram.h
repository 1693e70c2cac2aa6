#pragma once

#include "stages/camera/camerastage.h"

#include <QWidget>

namespace pinion {

/// The solved tracks by their error, with a line to drag: what lies to the right of it would be set aside, and the
/// plate shows it at once.
class ErrorHistogram : public QWidget {
    Q_OBJECT
public:
    ErrorHistogram(Session& session, CameraStage& stage, QWidget* parent = nullptr);
    QSize sizeHint() const override { return {180, 100}; }
    double errorAtX(double x) const;
    double xOfError(double error_px) const;

protected:
    void paintEvent(QPaintEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;

private:
    Session& session_;
    CameraStage& stage_;
};

}  // namespace pinion
