#include "widgets/toolbar.h"

#include "widgets/theme.h"

#include <QAction>
#include <QHBoxLayout>
#include <QLabel>
#include <QToolButton>

#include <algorithm>

namespace pinion {
namespace {

constexpr int kNarrowest = 660;

QHBoxLayout* part(QHBoxLayout* row) {
    auto* layout = new QHBoxLayout;
    layout->setSpacing(4);
    row->addLayout(layout);
    return layout;
}

}  // namespace

QToolButton* barButton(const QString& name, const QString& icon) {
    auto* button = new QToolButton;
    button->setText(name);
    button->setAccessibleName(name);
    button->setFocusPolicy(Qt::TabFocus);
    if (icon.isEmpty()) return button;
    button->setIcon(theme::icon(icon));
    button->setIconSize({16, 16});
    button->setToolButtonStyle(Qt::ToolButtonTextBesideIcon);
    return button;
}

QToolButton* barButton(QAction* action, const QString& icon) {
    auto* button = new QToolButton;
    button->setDefaultAction(action);
    button->setAccessibleName(action->text());
    action->setIcon(theme::icon(icon));
    action->setIconVisibleInMenu(false);
    button->setToolButtonStyle(Qt::ToolButtonIconOnly);
    button->setIconSize({17, 17});
    button->setFocusPolicy(Qt::TabFocus);
    return button;
}

ToolBar::ToolBar(QWidget* parent) : QWidget(parent) {
    setObjectName("toolBar");
    setAttribute(Qt::WA_StyledBackground);
    setStyleSheet("#toolBar { background: #1e1e1e; border-bottom: 1px solid #2b2b2b; }");
    setFixedHeight(36);
    setMinimumWidth(kNarrowest);
    auto* row = new QHBoxLayout(this);
    row->setContentsMargins(12, 0, 12, 0);
    row->setSpacing(4);
    left_ = part(row);
    row->addStretch(1);
    switches_ = part(row);
    row->addSpacing(8);
    views_ = part(row);
}

void ToolBar::addLeft(QWidget* widget, bool isWord) {
    left_->addWidget(widget);
    parts_.push_back({widget, stage_, always_, isWord});
}

void ToolBar::setStage(const QString& stage, bool always) {
    stage_ = stage;
    always_ = always;
}

bool ToolBar::isThere(const Part& part) const {
    return !instead_ && (part.always || part.stage == open_) && !(part.isWord && narrow_);
}

void ToolBar::showParts() {
    for (const Part& part : parts_) part.widget->setVisible(isThere(part));
}

void ToolBar::openStage(const QString& stage) {
    open_ = stage;
    showParts();
}

bool ToolBar::offers(const QString& tool) const {
    const auto button = tools_.find(tool);
    return button != tools_.end() && std::any_of(parts_.begin(), parts_.end(), [&](const Part& part) {
               return part.widget == button->second && (part.always || part.stage == open_);
           });
}

void ToolBar::addTool(const QString& tool, const QString& title, const QString& icon, const QString& tip,
                      const std::function<void()>& take) {
    QToolButton* button = barButton(title, icon);
    button->setObjectName("tool-" + tool);
    button->setCheckable(true);
    button->setChecked(tool == "select");
    button->setToolTip(tip.isEmpty() ? title : tip);
    tools_[tool] = button;
    connect(button, &QToolButton::clicked, this, [button, take] {
        take();
        button->setChecked(true);
    });
    addLeft(button);
}

void ToolBar::addStep(QAction* action, const QString& icon) { addLeft(barButton(action, icon)); }

void ToolBar::addWord(const QString& word) {
    auto* label = new QLabel(word);
    label->setProperty("dim", true);
    addLeft(label, true);
}

QToolButton* ToolBar::addSwitch(const QString& title, const QString& tip, const QStringList& views,
                                const std::function<void(bool)>& chosen) {
    QToolButton* button = barButton(title);
    button->setCheckable(true);
    button->setToolTip(tip);
    connect(button, &QToolButton::clicked, this, chosen);
    switches_->addWidget(button);
    viewSwitches_.emplace_back(button, views);
    return button;
}

QToolButton* ToolBar::addView(const QString& view, const QString& title, const QString& tip,
                              const std::function<void()>& show) {
    QToolButton* button = barButton(title);
    button->setObjectName("view-" + view);
    button->setCheckable(true);
    button->setToolTip(tip);
    viewButtons_[view] = button;
    connect(button, &QToolButton::clicked, this, [show] { show(); });
    views_->addWidget(button);
    return button;
}

void ToolBar::setNarrow(bool narrow) {
    if (narrow == narrow_) return;
    narrow_ = narrow;
    for (const auto& [name, button] : tools_)
        if (!button->icon().isNull())
            button->setToolButtonStyle(narrow ? Qt::ToolButtonIconOnly : Qt::ToolButtonTextBesideIcon);
    showParts();
}

void ToolBar::resizeEvent(QResizeEvent* event) {
    QWidget::resizeEvent(event);
    if (!narrow_) wide_ = std::max(wide_, layout()->sizeHint().width());
    setNarrow(width() < wide_);
}

void ToolBar::setTool(const QString& tool) {
    for (const auto& [name, button] : tools_) button->setChecked(name == tool);
}

void ToolBar::setView(const QString& view) {
    for (const auto& [name, button] : viewButtons_) button->setChecked(name == view);
    for (const auto& [button, views] : viewSwitches_) button->setVisible(views.contains(view));
}

void ToolBar::setInstead(QWidget* part) {
    if (instead_ && instead_ != part) instead_->hide();
    instead_ = part;
    showParts();
    if (!part) return;
    if (part->parentWidget() != this) left_->addWidget(part);
    part->show();
}

}  // namespace pinion
