#pragma once

#include "sheet/curves.h"
#include "sheet/threadsheet.h"

#include <QWidget>

class QComboBox;
class QLineEdit;
class QStackedWidget;
class QToolButton;

namespace pinion {

/// Thread sheet or curves. What chooses between them, and what concerns the one that is shown, is a widget of its own:
/// the window puts it where there is room.
class SheetPanel : public QWidget {
    Q_OBJECT
public:
    explicit SheetPanel(Session& session, QWidget* parent = nullptr);
    ThreadSheet& sheet() { return *sheet_; }
    CurvesPanel& curves() { return *curves_; }
    QWidget* head() { return head_; }
    void showCurves(bool shown);
    bool curvesShown() const;

private:
    void makeHead();

    QWidget* head_;
    ThreadSheet* sheet_;
    CurvesPanel* curves_;
    QStackedWidget* pages_;
    QToolButton* sheetButton_;
    QToolButton* curvesButton_;
    QComboBox* order_;
    QLineEdit* filter_;
    QComboBox* curve_;
};

}  // namespace pinion
