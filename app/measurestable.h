#pragma once

#include <QWidget>

namespace pinion {

class Workspace;

/// What was measured on the set: a distance between two tracks, the place of one; each with its trust, edited in its
/// cell, beside what the solve makes of it.
QWidget* makeMeasuresTable(Workspace& workspace);

}  // namespace pinion
