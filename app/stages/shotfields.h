#pragma once

#include <QString>

namespace pinion {

class ShotForm;

/// What the solve is told of the focal length: known, guessed or unknown, its value and its trust. It stands on more
/// than one card; the fields' names begin with `prefix`.
void addFocalFields(ShotForm& form, const QString& edit, const QString& prefix);

/// The squeeze of the plate.
void addSqueezeField(ShotForm& form, const QString& name);

}  // namespace pinion
