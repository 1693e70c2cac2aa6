#pragma once

#include "stages/mattes/mattehand.h"
#include "widgets/orderedlist.h"

namespace pinion {

/// The shapes in the order in which they are laid over each other: a tick draws them, a double click renames, a drag
/// gives another order.
class MatteList : public OrderedList {
public:
    MatteList(Session& session, MatteHand& hand);
    void refresh();

protected:
    void moved(int from, int to) override;

private:
    void take(QListWidgetItem* item);

    Session& session_;
    MatteHand& hand_;
    bool filling_ = false;
};

}  // namespace pinion
