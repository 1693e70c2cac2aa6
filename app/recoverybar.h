#pragma once

#include "session/recovery.h"

#include <QWidget>

#include <functional>
#include <vector>

class QLabel;

namespace pinion {

/// Offers what an earlier run lost, one shot after the other.
class RecoveryBar : public QWidget {
    Q_OBJECT
public:
    explicit RecoveryBar(QWidget* parent = nullptr);
    void offer(const std::vector<LostShot>& lost);

signals:
    void recoverAsked(const LostShot& lost);
    void discardAsked(const LostShot& lost);

private:
    QLabel* words_;
    LostShot offered_;
};

}  // namespace pinion
