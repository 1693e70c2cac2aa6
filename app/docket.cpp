#include "docket.h"

#include "widgets/theme.h"

#include <QApplication>
#include <QScrollArea>
#include <QScrollBar>
#include <QTimer>
#include <QVBoxLayout>

namespace pinion {
namespace {

constexpr int kInSight = 240;  // pixels of an open card that are in sight when it opens

}  // namespace

Docket::Docket(Session& session, const std::vector<std::unique_ptr<Stage>>& stages, QWidget* parent) : QWidget(parent) {
    setObjectName("docket");
    setMinimumWidth(232);
    auto* outer = new QVBoxLayout(this);
    outer->setContentsMargins(0, 0, 0, 0);
    auto* scroll = scroll_ = new QScrollArea(this);
    scroll->setWidgetResizable(true);
    scroll->setFocusPolicy(Qt::NoFocus);
    scroll->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    auto* content = new QWidget;
    content->setAutoFillBackground(true);
    QPalette palette = content->palette();
    palette.setColor(QPalette::Window, theme::kPanel);
    content->setPalette(palette);
    auto* layout = new QVBoxLayout(content);
    layout->setContentsMargins(0, 4, 0, 0);
    layout->setSpacing(0);
    open_ = stages.front()->id();
    for (const auto& stage : stages) {
        auto* card = new Card(stage->id(), stage->title(), content);
        card->setBody(stage->makeCard());
        card->setOpen(stage->id() == open_);
        connect(card, &Card::pressed, this, &Docket::open);
        layout->addWidget(card);
        entries_.push_back({stage.get(), card});
    }
    layout->addStretch(1);
    scroll->setWidget(content);
    outer->addWidget(scroll);
    connect(&session.document, &Document::changed, this, [this] { refresh(); });
    connect(&session.player, &Player::plateChanged, this, [this] { refresh(); });
    refresh();
}

Card* Docket::card(const QString& stage) const {
    for (const Entry& entry : entries_)
        if (entry.stage->id() == stage) return entry.card;
    return nullptr;
}

void Docket::open(const QString& stage) {
    const QString before = open_;
    open_ = stage;
    // Hidden, what has the focus would hand it on to the next card, which then looked chosen.
    QWidget* focus = QApplication::focusWidget();
    if (const Card* closing = card(before); before != stage && focus && closing->isAncestorOf(focus))
        focus->clearFocus();
    for (const Entry& entry : entries_) {
        entry.card->setOpen(entry.stage->id() == stage);
        if (entry.stage->id() == before && before != stage) entry.stage->leave();
    }
    for (const Entry& entry : entries_)
        if (entry.stage->id() == stage && before != stage) entry.stage->enter();
    // Its head, its main action and what came of that, once they have their places.
    QTimer::singleShot(0, this, [this] {
        if (Card* opened = card(open_)) {
            const int top = opened->mapTo(scroll_->widget(), QPoint(0, 0)).y();
            QScrollBar* bar = scroll_->verticalScrollBar();
            if (top < bar->value() || top + kInSight > bar->value() + scroll_->viewport()->height()) bar->setValue(top);
        }
    });
    emit opened(stage);
}

void Docket::refresh() {
    for (const Entry& entry : entries_) entry.card->setReport(entry.stage->report());
}

}  // namespace pinion
