#include "widgets/notebar.h"

#include <QHBoxLayout>
#include <QPushButton>

#include <algorithm>

namespace pinion {
namespace {

constexpr int kNoteStays = 6000;  // milliseconds
constexpr int kButtonRoom = 110;  // beside the words

}  // namespace

NoteBar::NoteBar(QWidget* parent, QWidget* over) : QWidget(parent), over_(over) {
    setObjectName("noteBar");
    setAttribute(Qt::WA_StyledBackground);
    setStyleSheet("#noteBar { background: #2a2a2a; border: 1px solid #444; border-radius: 4px; }");
    auto* row = new QHBoxLayout(this);
    row->setContentsMargins(12, 0, 12, 0);
    row->setSpacing(4);
    words_ = new QLabel;
    words_->setObjectName("note");
    words_->setTextInteractionFlags(Qt::TextSelectableByMouse);
    words_->setWordWrap(true);
    auto* dismiss = new QPushButton("Dismiss");
    dismiss->setFlat(true);
    row->addWidget(words_, 1);
    row->addWidget(dismiss);
    connect(dismiss, &QPushButton::clicked, this, &QWidget::hide);
    timer_.setSingleShot(true);
    connect(&timer_, &QTimer::timeout, this, &QWidget::hide);
    hide();
}

void NoteBar::show(const QString& words, bool error) {
    words_->setText(words);
    words_->setStyleSheet(error ? "color: #f3a58e;" : "");
    place();
    QWidget::show();
    raise();
    timer_.stop();
    if (!error) timer_.start(kNoteStays);
}

void NoteBar::place() {
    const QRect area(over_->mapTo(parentWidget(), QPoint(0, 0)), over_->size());
    int longest = 0;
    for (const QString& line : words_->text().split('\n'))
        longest = std::max(longest, words_->fontMetrics().horizontalAdvance(line));
    const int width = std::min(area.width() - 24, longest + kButtonRoom + 20);
    const int height = std::max(30, words_->heightForWidth(std::max(100, width - kButtonRoom)) + 12);
    setFixedHeight(height);
    setGeometry(area.left() + 12, area.bottom() - height - 8, width, height);
}

}  // namespace pinion
