#pragma once

class QWidget;

namespace pinion {

class Session;

/// The few things that are chosen once for all shots.
void showSettings(Session& session, QWidget* parent);

}  // namespace pinion
