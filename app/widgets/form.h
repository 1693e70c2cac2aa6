#pragma once

// What cards are made of; included by their sources alone.

#include <QComboBox>
#include <QDoubleSpinBox>
#include <QGridLayout>
#include <QHBoxLayout>
#include <QLabel>
#include <QPushButton>
#include <QSignalBlocker>
#include <QSpinBox>
#include <QVBoxLayout>

#include <initializer_list>

namespace pinion {

inline QLabel* dimLabel(const QString& words) {
    auto* label = new QLabel(words);
    label->setProperty("dim", true);
    label->setWordWrap(true);
    return label;
}

/// Rows of a label and a field.
class Form : public QWidget {
public:
    Form() : grid_(new QGridLayout(this)) {
        grid_->setContentsMargins(0, 0, 0, 0);
        grid_->setVerticalSpacing(5);
        grid_->setHorizontalSpacing(8);
        grid_->setColumnStretch(0, 1);
    }
    QLabel* row(const QString& label, QWidget* field) {
        const int row = grid_->rowCount();
        auto* name = dimLabel(label);  // in two lines where it is long
        field->setFixedWidth(104);
        field->setAccessibleName(label);
        grid_->addWidget(name, row, 0);
        grid_->addWidget(field, row, 1);
        return name;
    }
    void wide(QWidget* widget) {
        if (isOnTop_) top_->addWidget(widget);
        else grid_->addWidget(widget, grid_->rowCount(), 0, 1, 2);
    }
    /// What is added by it stands above all rows: the card's main action and what came of it, always in one place.
    template <class Add>
    void onTop(Add&& add) {
        if (!top_) {
            top_ = new QVBoxLayout;
            top_->setContentsMargins(0, 0, 0, 4);
            top_->setSpacing(5);
            grid_->addLayout(top_, 0, 0, 1, 2);
        }
        isOnTop_ = true;
        add();
        isOnTop_ = false;
    }

private:
    QGridLayout* grid_;
    QVBoxLayout* top_ = nullptr;
    bool isOnTop_ = false;
};

/// Under the name that tests and style sheets know it by, with a tip.
template <class Widget>
Widget* named(Widget* widget, const char* name, const QString& tip = {}) {
    widget->setObjectName(name);
    widget->setToolTip(tip);
    return widget;
}

inline QWidget* buttonRow(std::initializer_list<QWidget*> buttons) {
    auto* row = new QWidget;
    auto* layout = new QHBoxLayout(row);
    layout->setContentsMargins(0, 4, 0, 0);
    layout->setSpacing(6);
    for (QWidget* button : buttons) layout->addWidget(button);
    layout->addStretch(1);
    return row;
}

inline QPushButton* button(const QString& label, const char* kind = nullptr) {
    auto* made = new QPushButton(label);
    made->setObjectName("button-" + label.toLower().replace(' ', '-'));
    if (kind) made->setProperty(kind, true);
    return made;
}

inline QSpinBox* spin(int low, int high, const QString& suffix = {}) {
    auto* box = new QSpinBox;
    box->setRange(low, high);
    box->setSuffix(suffix);
    box->setAlignment(Qt::AlignRight);
    box->setKeyboardTracking(false);
    return box;
}

inline QDoubleSpinBox* decimal(double low, double high, int digits, double step, const QString& suffix = {}) {
    auto* box = new QDoubleSpinBox;
    box->setRange(low, high);
    box->setDecimals(digits);
    box->setSingleStep(step);
    box->setSuffix(suffix);
    box->setAlignment(Qt::AlignRight);
    box->setKeyboardTracking(false);
    return box;
}

inline QComboBox* choice(const QStringList& words) {
    auto* box = new QComboBox;
    box->addItems(words);
    return box;
}

/// A choice whose words may be longer than the card is wide: they are cut short, and the card stays as it is.
inline QComboBox* cutShort(QComboBox* box) {
    box->setSizeAdjustPolicy(QComboBox::AdjustToMinimumContentsLengthWithIcon);
    box->setMinimumContentsLength(8);
    return box;
}

/// Fields side by side under their names.
inline QWidget* columns(std::initializer_list<std::pair<const char*, QWidget*>> fields) {
    auto* made = new QWidget;
    auto* grid = new QGridLayout(made);
    grid->setContentsMargins(0, 0, 0, 0);
    grid->setHorizontalSpacing(4);
    grid->setVerticalSpacing(2);
    int column = 0;
    for (const auto& [name, field] : fields) {
        auto* label = dimLabel(name);
        label->setWordWrap(false);
        field->setAccessibleName(name);
        field->setMinimumWidth(40);
        field->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Fixed);
        grid->addWidget(label, 0, column);
        grid->addWidget(field, 1, column);
        grid->setColumnStretch(column++, 1);
    }
    return made;
}

/// Sets a field without telling anyone.
template <class Box, class Value>
void setQuietly(Box* box, const Value& value) {
    const QSignalBlocker blocker(box);
    box->setValue(value);
}

}  // namespace pinion
