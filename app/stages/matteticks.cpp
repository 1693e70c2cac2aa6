#include "stages/matteticks.h"

#include "session/session.h"

#include <QTimer>

#include <algorithm>

namespace pinion {

MatteTicks::MatteTicks(const char* name, const QString& what, std::function<void(const List<MatteId>&)> ticked)
    : ticked_(std::move(ticked)) {
    setObjectName(name);
    setAccessibleName(what);
    setSelectionMode(QAbstractItemView::NoSelection);
    connect(this, &QListWidget::itemChanged, this, [this](QListWidgetItem*) {
        if (filling_) return;
        std::vector<MatteId> now;
        for (int i = 0; i < count(); ++i)
            if (item(i)->checkState() == Qt::Checked) now.push_back(item(i)->data(Qt::UserRole).toLongLong());
        // After the signal: the edit may fill this list anew.
        QTimer::singleShot(0, this, [this, now] { ticked_(List<MatteId>(now)); });
    });
}

void MatteTicks::showTicks(const List<Matte>& mattes, const List<MatteId>& ticked) {
    const auto stateOf = [&](const Matte& matte) {
        return std::find(ticked.begin(), ticked.end(), matte.id) != ticked.end() ? Qt::Checked : Qt::Unchecked;
    };
    bool isSame = count() == int(mattes.size());
    for (int i = 0; isSame && i < count(); ++i) {
        const Matte& matte = mattes[std::size_t(i)];
        isSame = item(i)->text() == text(matte.name) && item(i)->data(Qt::UserRole).toLongLong() == matte.id &&
                 item(i)->checkState() == stateOf(matte);
    }
    if (isSame) return;
    filling_ = true;
    clear();
    for (const Matte& matte : mattes) {
        auto* one = new QListWidgetItem(text(matte.name), this);
        one->setFlags(Qt::ItemIsEnabled | Qt::ItemIsUserCheckable);
        one->setData(Qt::UserRole, qlonglong(matte.id));
        one->setCheckState(stateOf(matte));
    }
    setFixedHeight(std::clamp(count(), 1, 4) * std::max(22, sizeHintForRow(0)) + 6);
    filling_ = false;
}

}  // namespace pinion
