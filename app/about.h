#pragma once

class QWidget;

namespace pinion {

/// What the program is, what it stands on, and where its log lies.
void showAbout(QWidget* parent);

}  // namespace pinion
