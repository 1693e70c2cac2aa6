#include "stages/inserts/insertlist.h"

#include "shot/edits/insertedits.h"
#include "widgets/theme.h"

#include <QTimer>

#include <algorithm>

namespace pinion {

InsertList::InsertList(Session& session, InsertHand& hand)
    : OrderedList("insertList", "Inserts",
                  "The first lies on top. Tick: shown and rendered. Double click: another name. Drag: another place."),
      session_(session),
      hand_(hand) {
    connect(this, &QListWidget::itemChanged, this, &InsertList::take);
    connect(this, &QListWidget::currentRowChanged, this, [this](int row) {
        if (!filling_ && row >= 0 && std::size_t(row) < session_.shot().inserts.size())
            hand_.hold(session_.shot().inserts[placeOf(row)].id);
    });
}

void InsertList::refresh() {
    filling_ = true;
    const Shot& shot = session_.shot();
    setRows(int(shot.inserts.size()));
    for (int row = 0; row < count(); ++row) {
        const Insert& insert = shot.inserts[placeOf(row)];
        item(row)->setText(text(insert.name));
        item(row)->setCheckState(insert.hidden ? Qt::Unchecked : Qt::Checked);
        const Clip* clip = insert.shows == Insert::Shows::clip ? findClip(shot, insert.clip) : nullptr;
        item(row)->setForeground(clip && hand_.files.isMissing(*clip) ? theme::kCoral : theme::kText);
        if (hand_.insert() == insert.id) setCurrentRow(row);
    }
    filling_ = false;
}

void InsertList::take(QListWidgetItem* changed) {
    if (filling_ || std::size_t(row(changed)) >= session_.shot().inserts.size()) return;
    const Insert& insert = session_.shot().inserts[placeOf(row(changed))];
    const bool hidden = changed->checkState() == Qt::Unchecked;
    const QString name = changed->text().trimmed();
    // After the signal: the edit fills this list anew.
    QTimer::singleShot(0, this, [this, id = insert.id, hidden, name, was = insert.hidden, before = text(insert.name)] {
        if (hidden != was)
            session_.edit((hidden ? "Hide " : "Show ") + before,
                          withInsertEdited(session_.shot(), id, [&](Insert& i) { i.hidden = hidden; }));
        else if (name != before && !name.isEmpty())
            session_.edit("Rename " + before,
                          withInsertEdited(session_.shot(), id, [&](Insert& i) { i.name = name.toStdString(); }));
        else refresh();
    });
}

void InsertList::moved(int from, int to) {
    if (session_.isBusy()) return;
    session_.edit("Order of inserts", withInsertMoved(session_.shot(), placeOf(from), placeOf(to)));
}

}  // namespace pinion
