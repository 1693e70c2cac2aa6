#pragma once

#include "shot/solvesettings.h"

#include <QString>

class QWidget;

namespace pinion {

class ShotForm;

/// A field of the table of settings of a solve: a choice or a number, with its label; there while it counts.
QWidget* addSettingField(ShotForm& form, SettingId id, const QString& edit, const QString& name);

/// What the solve is told of the focal length: known, guessed or unknown, its value and its trust. It stands on more
/// than one card; the fields' names begin with `prefix`.
void addFocalFields(ShotForm& form, const QString& edit, const QString& prefix);

}  // namespace pinion
