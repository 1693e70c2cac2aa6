#include "stages/mattes/mattelist.h"

#include "shot/edits/matteedits.h"
#include "widgets/theme.h"

#include <QPainter>
#include <QTimer>

namespace pinion {
namespace {

/// The shape's colour, and what it does to those before it: added, taken away, cut.
QIcon markOf(const Matte& matte) {
    QPixmap pixmap(14, 14);
    pixmap.fill(Qt::transparent);
    QPainter painter(&pixmap);
    painter.setRenderHint(QPainter::Antialiasing);
    const QColor colour = QColor::fromRgb(matte.colour == 0 ? 0xD9A441 : matte.colour);
    painter.setPen(QPen(colour, 1.4,
                        matte.op == Matte::Op::add        ? Qt::SolidLine
                        : matte.op == Matte::Op::subtract ? Qt::DashLine
                                                          : Qt::DotLine));
    painter.setBrush(QBrush(colour, matte.mode == Matte::Mode::exclude ? Qt::BDiagPattern : Qt::FDiagPattern));
    painter.drawEllipse(QRectF(1.5, 1.5, 11, 11));
    return pixmap;
}

}  // namespace

MatteList::MatteList(Session& session, MatteHand& hand)
    : OrderedList("matteList", "Shapes",
                  "In this order: each is added to, taken from or cut with those before it. Tick: drawn. Double click: "
                  "another name. Drag: another place."),
      session_(session),
      hand_(hand) {
    connect(this, &QListWidget::itemChanged, this, &MatteList::take);
    connect(this, &QListWidget::currentRowChanged, this, [this](int row) {
        if (!filling_ && row >= 0) hand_.hold(std::size_t(row));
    });
}

void MatteList::refresh() {
    filling_ = true;
    const auto& mattes = session_.shot().mattes;
    setRows(int(mattes.size()));
    for (int i = 0; i < count(); ++i) {
        const Matte& matte = mattes[std::size_t(i)];
        item(i)->setText(text(matte.name));
        item(i)->setIcon(markOf(matte));
        item(i)->setCheckState(matte.hidden ? Qt::Unchecked : Qt::Checked);
        QFont face = font();
        face.setItalic(matte.locked);
        item(i)->setFont(face);
    }
    const auto held = hand_.matte();
    setCurrentRow(held ? int(*held) : -1);
    filling_ = false;
}

void MatteList::take(QListWidgetItem* changed) {
    if (filling_) return;
    const auto place = std::size_t(row(changed));
    if (place >= session_.shot().mattes.size()) return;
    const Matte& matte = session_.shot().mattes[place];
    const bool hidden = changed->checkState() == Qt::Unchecked;
    const QString name = changed->text().trimmed();
    // After the signal: the edit fills this list anew.
    QTimer::singleShot(0, this, [this, place, hidden, name, was = matte.hidden, before = text(matte.name)] {
        if (hidden != was)
            session_.edit((hidden ? "Hide " : "Show ") + before,
                          withMatteEdited(session_.shot(), place, [&](Matte& m) { m.hidden = hidden; }));
        else if (name != before && !name.isEmpty())
            session_.edit("Rename " + before, withMatteRenamed(session_.shot(), place, name.toStdString()));
        else refresh();
    });
}

void MatteList::moved(int from, int to) {
    if (session_.isBusy()) return;
    session_.edit("Order of shapes", withMatteMoved(session_.shot(), std::size_t(from), std::size_t(to)));
    hand_.hold(std::size_t(to));
}

}  // namespace pinion
