#pragma once

#include "session/session.h"

#include <QWidget>

class QLabel;
class QToolButton;

namespace pinion {

class Commands;

/// The bar along the foot of the window: stepping and playing, the frame, the choice of sheets, and what the cursor
/// points at.
class Transport : public QWidget {
    Q_OBJECT
public:
    Transport(Session& session, const Commands& commands, QWidget* sheetHead, QWidget* parent = nullptr);
    void setPointed(const QString& words);

private:
    void refresh();

    Session& session_;
    QToolButton* play_;
    QLabel* frame_;
    QLabel* range_;
    QLabel* pointed_;
};

}  // namespace pinion
