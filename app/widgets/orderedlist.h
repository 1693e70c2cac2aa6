#pragma once

#include <QListWidget>

namespace pinion {

/// A short list that is as high as its rows. A tick shows what a row stands for, a double click renames it, a drag
/// gives another order; what that means is its owner's.
class OrderedList : public QListWidget {
public:
    OrderedList(const char* name, const QString& accessibleName, const QString& tip);

protected:
    /// Has as many rows as there are things, and is as high as it needs to be; `most` rows at once.
    void setRows(int rows, int most = 6);
    /// A row was dragged to another place; after the event, so that the list may be filled anew.
    virtual void moved(int from, int to) = 0;
    void dropEvent(QDropEvent* event) override;
};

}  // namespace pinion
