#pragma once

#include <QString>
#include <QVector>

#include <vector>

namespace pinion {

/// A line over the frames. A value that is not a number parts it.
struct CurveLine {
    QString name;  ///< empty: not in the legend
    QVector<double> frames;
    QVector<double> values;
    bool faint = false;  ///< dotted and dim: a limit, a deviation
};

/// A curve that belongs to the shot rather than to the selected tracks; a stage adds it.
class ShotCurve {
public:
    virtual ~ShotCurve() = default;
    virtual QString name() const = 0;
    virtual std::vector<CurveLine> lines() const = 0;
    /// What to do to see it, while there is nothing.
    virtual QString whenEmpty() const = 0;
};

}  // namespace pinion
