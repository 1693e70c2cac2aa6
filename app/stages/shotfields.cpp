#include "stages/shotfields.h"

#include "stages/shotform.h"

namespace pinion {

void addFocalFields(ShotForm& form, const QString& edit, const QString& prefix) {
    const auto named = [&](auto* box, const char* name) {
        box->setObjectName(prefix + name);
        return box;
    };
    form.row("Focal length", form.bind(
                                 named(choice({"known", "guessed", "unknown"}), ""), edit,
                                 [](auto& s) -> auto& { return s.solveSettings.focal; }));
    auto* value = form.bind(
        named(decimal(1, 2000, 2, 1, " mm"), "Value"), edit, [](auto& s) -> auto& { return s.solveSettings.focal_mm; });
    auto* trust = form.bind(
        named(decimal(0.01, 200, 2, 0.5, " mm"), "Trust"), edit,
        [](auto& s) -> auto& { return s.solveSettings.focalTrust_mm; });
    auto* valueLabel = form.row("Value", value);
    auto* trustLabel = form.row("Trust ±", trust);
    form.showIf({value, valueLabel}, [](const Shot& s) { return s.solveSettings.focal != Knowledge::unknown; });
    form.showIf({trust, trustLabel}, [](const Shot& s) { return s.solveSettings.focal == Knowledge::guessed; });
}

void addSqueezeField(ShotForm& form, const QString& name) {
    auto* squeeze = form.bind(
        decimal(0.05, 20, 3, 0.05), "Change the squeeze", [](auto& s) -> auto& { return s.solveSettings.squeeze; });
    squeeze->setObjectName(name);
    squeeze->setToolTip(
        "Pixels across over pixels down of one angle: 1 for a spherical lens, 0.5 for a plate squeezed by two and "
        "not stretched again. Taken from the plate's pixels when it is opened");
    form.row("Squeeze", squeeze);
}

}  // namespace pinion
