#include "transport.h"

#include "widgets/commands.h"
#include "widgets/theme.h"
#include "widgets/toolbar.h"

#include <QAction>
#include <QHBoxLayout>
#include <QLabel>
#include <QToolButton>

namespace pinion {
namespace {

QLabel* dim() {
    auto* label = new QLabel;
    label->setProperty("dim", true);
    return label;
}

}  // namespace

Transport::Transport(Session& session, const Commands& commands, QWidget* sheetHead, QWidget* parent)
    : QWidget(parent), session_(session) {
    setObjectName("transport");
    setAttribute(Qt::WA_StyledBackground);
    setFixedHeight(34);
    setStyleSheet("#transport { background: #1b1b1b; border-top: 1px solid #333; }");
    auto* row = new QHBoxLayout(this);
    row->setContentsMargins(12, 0, 12, 0);
    row->setSpacing(4);
    row->addWidget(barButton(commands.action("First frame of the range"), "skip-back"));
    row->addWidget(barButton(commands.action("Step back"), "step-back"));
    play_ = barButton(commands.action("Play or pause"), "play");
    row->addWidget(play_);
    row->addWidget(barButton(commands.action("Step forward"), "step-forward"));
    row->addWidget(barButton(commands.action("Last frame of the range"), "skip-forward"));
    row->addSpacing(10);
    frame_ = new QLabel;
    frame_->setObjectName("frame");
    frame_->setProperty("title", true);
    frame_->setStyleSheet("font-size: 15px;");
    range_ = dim();
    pointed_ = dim();
    row->addWidget(frame_);
    row->addSpacing(6);
    row->addWidget(range_);
    row->addSpacing(14);
    row->addWidget(sheetHead);
    // What the cursor points at gives way first, so that a narrow screen does not cut the window off.
    pointed_->setAlignment(Qt::AlignRight | Qt::AlignVCenter);
    pointed_->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Preferred);
    row->addWidget(pointed_, 1);
    connect(&session.document, &Document::changed, this, [this] { refresh(); });
    connect(&session.player, &Player::frameChanged, this, [this] { refresh(); });
    connect(&session.player, &Player::playingChanged, this,
            [this] { play_->defaultAction()->setIcon(theme::icon(session_.player.isPlaying() ? "pause" : "play")); });
    refresh();
}

void Transport::setPointed(const QString& words) { pointed_->setText(words); }

void Transport::refresh() {
    const PlateRef& plate = session_.shot().plate;
    if (!plate.isOpen()) {
        frame_->setText("—");
        range_->clear();
        return;
    }
    const int frame = session_.player.frame();
    frame_->setText(QString::number(frame));
    range_->setText(QString("of %1–%2 · %3 s")
                        .arg(plate.range.first)
                        .arg(plate.range.last)
                        .arg((frame - plate.frames.first) / plate.fps.perSecond(), 0, 'f', 3));
}

}  // namespace pinion
