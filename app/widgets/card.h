#pragma once

#include "shot/stages/report.h"

#include <QWidget>

class QLabel;
class QVBoxLayout;

namespace pinion {

/// One stage in the docket: its state, its one number, and, when open, its settings.
class Card : public QWidget {
    Q_OBJECT
public:
    Card(const QString& stage, const QString& title, QWidget* parent = nullptr);
    const QString& stage() const { return stage_; }
    void setReport(const StageReport& report);
    const StageReport& report() const { return report_; }
    void setBody(QWidget* body);
    void setOpen(bool open);
    bool isOpen() const { return open_; }

signals:
    void pressed(const QString& stage);

protected:
    void paintEvent(QPaintEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void keyPressEvent(QKeyEvent*) override;
    void focusInEvent(QFocusEvent*) override;

private:
    static constexpr int kHeader = 36;
    static constexpr int kIndent = 33;
    void paintState(QPainter& painter) const;
    void paintWords(QPainter& painter) const;

    QString stage_;
    QString title_;
    StageReport report_;
    QWidget* body_ = nullptr;
    QLabel* note_;
    QVBoxLayout* layout_;
    bool open_ = false;
};

}  // namespace pinion
