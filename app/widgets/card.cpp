#include "widgets/card.h"

#include "widgets/theme.h"

#include <QFocusEvent>
#include <QKeyEvent>
#include <QLabel>
#include <QMouseEvent>
#include <QPainter>
#include <QVBoxLayout>

namespace pinion {

Card::Card(const QString& stage, const QString& title, QWidget* parent)
    : QWidget(parent), stage_(stage), title_(title) {
    setObjectName("card-" + stage);
    setFocusPolicy(Qt::TabFocus);
    setAccessibleName(title);
    layout_ = new QVBoxLayout(this);
    layout_->setContentsMargins(kIndent, kHeader, 10, 0);
    layout_->setSpacing(6);
    note_ = new QLabel(this);
    note_->setProperty("note", true);
    note_->setWordWrap(true);
    note_->hide();
    layout_->addWidget(note_);
}

void Card::setReport(const StageReport& report) {
    report_ = report;
    const QString message = QString::fromStdString(report.message);
    note_->setText(message);
    note_->setVisible(open_ && !message.isEmpty());
    setToolTip(message);
    setAccessibleDescription(QString::fromStdString(report.number) + (message.isEmpty() ? "" : ". " + message));
    update();
}

void Card::setBody(QWidget* body) {
    body_ = body;
    layout_->insertWidget(0, body);
    body->setVisible(open_);
}

void Card::setOpen(bool open) {
    open_ = open;
    if (body_) body_->setVisible(open);
    note_->setVisible(open && !report_.message.empty());
    layout_->setContentsMargins(kIndent, kHeader, 10, open ? 14 : 0);
    update();
}

void Card::paintEvent(QPaintEvent*) {
    QPainter painter(this);
    if (open_) {
        painter.fillRect(rect(), QColor(0x26, 0x26, 0x26));
        painter.fillRect(QRect(0, 0, 2, height()), theme::kBrass);
    }
    painter.setRenderHint(QPainter::Antialiasing);
    if (hasFocus()) theme::drawFocus(painter, QRectF(4.5, 3.5, width() - 9, kHeader - 7));
    paintState(painter);
    paintWords(painter);
}

/// Every state is a shape: ring, disc, half disc, triangle.
void Card::paintState(QPainter& painter) const {
    const QPointF c(17, kHeader / 2.0);
    switch (report_.state) {
        case StageState::empty:
            painter.setPen(QPen(theme::kSlate, 1.4));
            painter.setBrush(Qt::NoBrush);
            painter.drawEllipse(c, 4.5, 4.5);
            break;
        case StageState::done:
            painter.setPen(Qt::NoPen);
            painter.setBrush(theme::kSlate);
            painter.drawEllipse(c, 5, 5);
            break;
        case StageState::stale:
            painter.setPen(QPen(theme::kSand, 1.4));
            painter.setBrush(Qt::NoBrush);
            painter.drawEllipse(c, 4.5, 4.5);
            painter.setBrush(theme::kSand);
            painter.setPen(Qt::NoPen);
            painter.drawPie(QRectF(c.x() - 5, c.y() - 5, 10, 10), 90 * 16, 180 * 16);
            break;
        case StageState::attention:
            painter.setPen(Qt::NoPen);
            painter.setBrush(theme::kCoral);
            painter.drawPolygon(QPolygonF({c + QPointF(0, -6), c + QPointF(6, 5), c + QPointF(-6, 5)}));
            break;
    }
}

void Card::paintWords(QPainter& painter) const {
    QFont bold = font();
    bold.setWeight(QFont::DemiBold);
    bold.setPixelSize(13);
    painter.setFont(bold);
    painter.setPen(theme::kText);
    painter.drawText(QRect(kIndent, 0, 100, kHeader), Qt::AlignLeft | Qt::AlignVCenter, title_);
    const int used = painter.fontMetrics().horizontalAdvance(title_);
    QFont small = font();
    small.setPixelSize(11);
    painter.setFont(small);
    const bool glows = report_.state == StageState::attention || report_.state == StageState::stale;
    painter.setPen(glows ? theme::kSand : theme::kDim);
    const QRect room(kIndent + used + 10, 0, width() - kIndent - used - 20, kHeader);
    painter.drawText(
        room, Qt::AlignRight | Qt::AlignVCenter,
        painter.fontMetrics().elidedText(QString::fromStdString(report_.number), Qt::ElideRight, room.width()));
}

void Card::mousePressEvent(QMouseEvent* event) {
    if (event->position().y() < kHeader) emit pressed(stage_);
}

void Card::keyPressEvent(QKeyEvent* event) {
    if (event->key() == Qt::Key_Return || event->key() == Qt::Key_Enter) emit pressed(stage_);
    else QWidget::keyPressEvent(event);
}

void Card::focusInEvent(QFocusEvent* event) {
    QWidget::focusInEvent(event);
    update();
}

}  // namespace pinion
