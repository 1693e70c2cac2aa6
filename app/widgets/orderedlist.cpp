#include "widgets/orderedlist.h"

#include <QDropEvent>
#include <QTimer>

#include <algorithm>

namespace pinion {

OrderedList::OrderedList(const char* name, const QString& accessibleName, const QString& tip) {
    setObjectName(name);
    setAccessibleName(accessibleName);
    setToolTip(tip);
    setDragDropMode(InternalMove);
    setDefaultDropAction(Qt::MoveAction);
    setEditTriggers(DoubleClicked | EditKeyPressed);
}

void OrderedList::setRows(int rows, int most) {
    while (count() > rows) delete takeItem(count() - 1);
    while (count() < rows) {
        auto* item = new QListWidgetItem(this);
        item->setFlags(Qt::ItemIsEnabled | Qt::ItemIsSelectable | Qt::ItemIsEditable | Qt::ItemIsUserCheckable |
                       Qt::ItemIsDragEnabled);
        item->setCheckState(Qt::Checked);
    }
    setFixedHeight(std::clamp(count(), 1, most) * std::max(22, sizeHintForRow(0)) + 6);
}

void OrderedList::dropEvent(QDropEvent* event) {
    const int from = currentRow();
    const QModelIndex over = indexAt(event->position().toPoint());
    int to = over.isValid() ? over.row() : count() - 1;
    // Between two rows it goes in before or after the one it is nearer to.
    if (over.isValid() && dropIndicatorPosition() == BelowItem && to < from) ++to;
    if (over.isValid() && dropIndicatorPosition() == AboveItem && to > from) --to;
    event->setDropAction(Qt::IgnoreAction);
    event->accept();
    if (from < 0 || from == to) return;
    QTimer::singleShot(0, this, [this, from, to] { moved(from, to); });
}

}  // namespace pinion
