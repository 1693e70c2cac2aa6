#include "docket.h"

#include "theme.h"

#include <QKeyEvent>
#include <QLabel>
#include <QMouseEvent>
#include <QPainter>
#include <QScrollArea>
#include <QVBoxLayout>

namespace pinion {

Card::Card(Stage stage, const QString& title, QWidget* parent) : QWidget(parent), stage_(stage), title_(title) {
    setObjectName("card-" + title.toLower());
    setFocusPolicy(Qt::TabFocus);
    setAccessibleName(title);
    layout_ = new QVBoxLayout(this);
    layout_->setContentsMargins(38, kHeader, 12, 0);
    layout_->setSpacing(6);
    note_ = new QLabel(this);
    note_->setProperty("note", true);
    note_->setWordWrap(true);
    note_->hide();
    layout_->addWidget(note_);
}

void Card::setReport(const StageReport& report) {
    report_ = report;
    note_->setText(QString::fromStdString(report.message));
    note_->setVisible(open_ && !report.message.empty());
    setToolTip(QString::fromStdString(report.message));
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
    layout_->setContentsMargins(38, kHeader, 12, open ? 14 : 0);
    update();
}

void Card::paintEvent(QPaintEvent*) {
    QPainter painter(this);
    if (open_) {
        painter.fillRect(rect(), QColor(0x26, 0x26, 0x26));
        painter.fillRect(QRect(0, 0, 2, height()), theme::kBrass);
    }
    if (hasFocus()) {
        painter.setPen(QPen(QColor(217, 164, 65, 150), 1, Qt::DotLine));
        painter.drawRect(QRect(4, 3, width() - 9, kHeader - 7));
    }
    painter.setRenderHint(QPainter::Antialiasing);
    // Every state is a shape: ring, disc, half disc, triangle.
    const QPointF c(19, kHeader / 2.0);
    switch (report_.state) {
        case StageState::empty:
            painter.setPen(QPen(theme::kSlate, 1.4));
            painter.drawEllipse(c, 4.5, 4.5);
            break;
        case StageState::done:
            painter.setPen(Qt::NoPen);
            painter.setBrush(theme::kSlate);
            painter.drawEllipse(c, 5, 5);
            break;
        case StageState::stale:
            painter.setPen(QPen(theme::kSand, 1.4));
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
    QFont bold = font();
    bold.setWeight(QFont::DemiBold);
    bold.setPixelSize(13);
    painter.setFont(bold);
    painter.setPen(theme::kText);
    painter.drawText(QRect(38, 0, 100, kHeader), Qt::AlignLeft | Qt::AlignVCenter, title_);
    const int used = painter.fontMetrics().horizontalAdvance(title_);
    QFont small = font();
    small.setPixelSize(11);
    painter.setFont(small);
    painter.setPen(report_.state == StageState::attention || report_.state == StageState::stale ? theme::kSand
                                                                                                : theme::kDim);
    const QRect numberRect(38 + used + 10, 0, width() - 38 - used - 22, kHeader);
    painter.drawText(
        numberRect, Qt::AlignRight | Qt::AlignVCenter,
        painter.fontMetrics().elidedText(QString::fromStdString(report_.number), Qt::ElideRight, numberRect.width()));
}

void Card::mousePressEvent(QMouseEvent* event) {
    if (event->position().y() < kHeader) emit pressed(stage_);
}

void Card::keyPressEvent(QKeyEvent* event) {
    if (event->key() == Qt::Key_Return || event->key() == Qt::Key_Enter) emit pressed(stage_);
    else QWidget::keyPressEvent(event);
}

Docket::Docket(Workspace& workspace, QWidget* parent) : QWidget(parent), workspace_(workspace) {
    setObjectName("docket");
    auto* outer = new QVBoxLayout(this);
    outer->setContentsMargins(0, 0, 0, 0);
    auto* scroll = new QScrollArea(this);
    scroll->setWidgetResizable(true);
    scroll->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    auto* content = new QWidget;
    content->setAutoFillBackground(true);
    QPalette palette = content->palette();
    palette.setColor(QPalette::Window, theme::kPanel);
    content->setPalette(palette);
    auto* layout = new QVBoxLayout(content);
    layout->setContentsMargins(0, 4, 0, 0);
    layout->setSpacing(0);
    const auto add = [&](Stage stage, const QString& title, QWidget* body) {
        auto* card = new Card(stage, title, content);
        card->setBody(body);
        card->setOpen(stage == openStage_);
        connect(card, &Card::pressed, this, [this](Stage pressed) { open(pressed); });
        layout->addWidget(card);
        cards_.push_back(card);
    };
    add(Stage::plate, "Plate", makePlatePanel(workspace));
    add(Stage::tracks, "Tracks", makeTracksPanel(workspace));
    add(Stage::camera, "Camera", makeCameraPanel(workspace));
    add(Stage::world, "World", makeWorldPanel(workspace));
    add(Stage::steady, "Steady", makeSteadyPanel(workspace));
    add(Stage::delivery, "Delivery", makeDeliveryPanel(workspace));
    layout->addStretch(1);
    scroll->setWidget(content);
    outer->addWidget(scroll);
    connect(&workspace, &Workspace::shotChanged, this, [this] { refresh(); });
    connect(&workspace, &Workspace::plateChanged, this, [this] { refresh(); });
    refresh();
}

Card* Docket::card(Stage stage) const {
    for (Card* card : cards_)
        if (card->stage() == stage) return card;
    return nullptr;
}

void Docket::open(Stage stage) {
    openStage_ = stage;
    for (Card* card : cards_) card->setOpen(card->stage() == stage);
    if (stage != Stage::camera) workspace_.setTrimPreview(0);
    if (stage != Stage::tracks && workspace_.candidatesShown()) workspace_.showCandidates(false);
    emit opened(stage);
}

void Docket::refresh() {
    const auto reports = workspace_.stages();
    for (std::size_t i = 0; i < cards_.size(); ++i) cards_[i]->setReport(reports[i]);
}

}  // namespace pinion
