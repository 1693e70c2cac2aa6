#include "recoverybar.h"

#include <QHBoxLayout>
#include <QLabel>
#include <QPushButton>

namespace pinion {

RecoveryBar::RecoveryBar(QWidget* parent) : QWidget(parent) {
    setObjectName("recoveryBar");
    setAttribute(Qt::WA_StyledBackground);
    setFixedHeight(36);
    setStyleSheet("#recoveryBar { background: #3a3325; }");
    auto* row = new QHBoxLayout(this);
    row->setContentsMargins(12, 0, 12, 0);
    row->setSpacing(4);
    words_ = new QLabel;
    words_->setObjectName("recoveryText");
    auto* recover = new QPushButton("Recover");
    recover->setObjectName("recover");
    recover->setProperty("accent", true);
    auto* discard = new QPushButton("Discard");
    discard->setObjectName("discard");
    row->addWidget(words_, 1);
    row->addWidget(recover);
    row->addWidget(discard);
    connect(recover, &QPushButton::clicked, this, [this] { emit recoverAsked(offered_); });
    connect(discard, &QPushButton::clicked, this, [this] { emit discardAsked(offered_); });
    hide();
}

void RecoveryBar::offer(const std::vector<LostShot>& lost) {
    setVisible(!lost.empty());
    if (lost.empty()) return;
    offered_ = lost.front();
    words_->setText(QString("%1 was not saved when Pinion ended last time.").arg(offered_.name));
}

}  // namespace pinion
