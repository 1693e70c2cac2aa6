#pragma once

#include "session/session.h"

#include <QWidget>

class QHBoxLayout;
class QLabel;
class QMenuBar;
class QProgressBar;
class QPushButton;

namespace pinion {

/// Menus, the shot's name and facts, the job that runs with its progress, and the way to deliver.
class TitleBar : public QWidget {
    Q_OBJECT
public:
    explicit TitleBar(Session& session, QWidget* parent = nullptr);
    void setMenus(QMenuBar* menus);

signals:
    void deliverAsked();

private:
    void makeJobArea();
    void refresh();
    void refreshJob();

    Session& session_;
    QHBoxLayout* row_;
    QLabel* shotName_;
    QLabel* facts_;
    QWidget* jobArea_;
    QLabel* jobName_;
    QProgressBar* jobBar_;
    QLabel* jobDetail_;
    QPushButton* deliver_;
};

}  // namespace pinion
