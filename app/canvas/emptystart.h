#pragma once

#include <QPointF>
#include <QRectF>
#include <QString>
#include <QStringList>

#include <utility>
#include <vector>

class QPainter;
class QWidget;

namespace pinion {

/// What the canvas shows before a plate is open: what to do next, and what was open last, one click away.
class EmptyStart {
public:
    /// `recent` as it was when the window opened: asked for once, since a path may lie on a disk that is slow to
    /// answer.
    explicit EmptyStart(const QStringList& recent);
    void paint(QPainter& painter, const QWidget& canvas, const QPointF& cursor);
    /// The rows, and what each opens.
    const std::vector<std::pair<QRectF, QString>>& rows() const { return rows_; }
    /// What a click there opens; empty when nothing.
    QString at(const QPointF& place) const;

private:
    QStringList recent_;
    std::vector<std::pair<QRectF, QString>> rows_;
};

}  // namespace pinion
