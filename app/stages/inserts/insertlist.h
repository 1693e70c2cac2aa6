#pragma once

#include "stages/inserts/inserthand.h"
#include "widgets/orderedlist.h"

namespace pinion {

/// The inserts, the topmost first: a tick shows one, a double click renames it, a drag gives another order.
class InsertList : public OrderedList {
public:
    InsertList(Session& session, InsertHand& hand);
    void refresh();

protected:
    void moved(int from, int to) override;

private:
    void take(QListWidgetItem* item);
    /// From a row to a place in the shot's list, and back: it is the other way round.
    std::size_t placeOf(int row) const { return session_.shot().inserts.size() - 1 - std::size_t(row); }

    Session& session_;
    InsertHand& hand_;
    bool filling_ = false;
};

}  // namespace pinion
