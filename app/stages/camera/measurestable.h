#pragma once

#include <QWidget>

namespace pinion {

class Session;

/// What was measured on the set: a distance between two tracks, the place of one; each with its trust, edited in its
/// cell, beside what the solve makes of it.
QWidget* makeMeasuresTable(Session& session);

}  // namespace pinion
