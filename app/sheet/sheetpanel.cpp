#include "sheet/sheetpanel.h"

#include "widgets/toolbar.h"

#include <QComboBox>
#include <QHBoxLayout>
#include <QLineEdit>
#include <QStackedWidget>
#include <QToolButton>
#include <QVBoxLayout>

namespace pinion {

SheetPanel::SheetPanel(Session& session, QWidget* parent) : QWidget(parent) {
    sheet_ = new ThreadSheet(session);
    curves_ = new CurvesPanel(session);
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 0, 0, 0);
    layout->setSpacing(0);
    makeHead();
    pages_ = new QStackedWidget;
    pages_->addWidget(sheet_);
    pages_->addWidget(curves_);
    layout->addWidget(pages_, 1);
    showCurves(false);
}

void SheetPanel::makeHead() {
    head_ = new QWidget(this);
    head_->setObjectName("sheetHead");
    auto* row = new QHBoxLayout(head_);
    row->setContentsMargins(0, 0, 0, 0);
    row->setSpacing(4);
    sheetButton_ = barButton("Thread sheet");
    curvesButton_ = barButton("Curves");
    for (QToolButton* button : {sheetButton_, curvesButton_}) {
        button->setCheckable(true);
        row->addWidget(button);
    }
    connect(sheetButton_, &QToolButton::clicked, this, [this] { showCurves(false); });
    connect(curvesButton_, &QToolButton::clicked, this, [this] { showCurves(true); });
    order_ = new QComboBox;
    order_->setObjectName("sheetOrder");
    order_->setAccessibleName("Order of the tracks");
    order_->addItems({"by start", "by length", "by error", "by name"});
    order_->setFixedWidth(96);
    connect(order_, &QComboBox::activated, this, [this](int index) { sheet_->setOrder(ThreadSheet::Order(index)); });
    row->addWidget(order_);
    filter_ = new QLineEdit;
    filter_->setObjectName("sheetFilter");
    filter_->setAccessibleName("Filter of the tracks");
    filter_->setPlaceholderText("filter by name or group");
    filter_->setClearButtonEnabled(true);
    filter_->setFixedWidth(150);
    connect(filter_, &QLineEdit::textChanged, sheet_, &ThreadSheet::setFilter);
    row->addWidget(filter_);
    curve_ = new QComboBox;
    curve_->setObjectName("curveChoice");
    curve_->setAccessibleName("Curve");
    curve_->addItems(curves_->names());
    curve_->setFixedWidth(96);
    connect(curve_, &QComboBox::textActivated, curves_, &CurvesPanel::setCurve);
    connect(curves_, &CurvesPanel::curveChanged, curve_, &QComboBox::setCurrentText);
    connect(curves_, &CurvesPanel::curveAdded, this, [this](const QString& name) { curve_->addItem(name); });
    row->addWidget(curve_);
}

bool SheetPanel::curvesShown() const { return pages_->currentWidget() == curves_; }

void SheetPanel::showCurves(bool shown) {
    pages_->setCurrentWidget(shown ? static_cast<QWidget*>(curves_) : sheet_);
    sheetButton_->setChecked(!shown);
    curvesButton_->setChecked(shown);
    order_->setVisible(!shown);
    filter_->setVisible(!shown);
    curve_->setVisible(shown);
}

}  // namespace pinion
