#pragma once

#include "matte/matte.h"

#include <QListWidget>

#include <functional>

namespace pinion {

/// A shot's mattes with a tick each: those that something is held out by, or seen within.
class MatteTicks : public QListWidget {
public:
    /// `ticked` hears of the ticks after each change of one, in the order of the list.
    MatteTicks(const char* name, const QString& what, std::function<void(const List<MatteId>&)> ticked);
    /// Fills the list, where it would be another.
    void showTicks(const List<Matte>& mattes, const List<MatteId>& ticked);

private:
    std::function<void(const List<MatteId>&)> ticked_;
    bool filling_ = false;
};

}  // namespace pinion
