#include "stages/shotfields.h"

#include "stages/shotform.h"

#include <algorithm>
#include <cmath>

namespace pinion {

QWidget* addSettingField(ShotForm& form, SettingId id, const QString& edit, const QString& name) {
    const SolveSetting& setting = solveSetting(id);
    QWidget* field = nullptr;
    if (setting.isChoice()) {
        QStringList labels;
        for (const char* label : setting.labels) labels << label;
        auto* box = choice(labels);
        QObject::connect(box, &QComboBox::activated, &form, [&form, &setting, edit](int index) {
            form.change(edit, [&](Shot& shot) { setting.choose(shot.solveSettings, std::size_t(index)); });
        });
        form.onRefresh(
            [&form, &setting, box] { box->setCurrentIndex(int(setting.chosen(form.shot().solveSettings))); });
        field = box;
    } else {
        const QString unit = *setting.unit ? QString(" ") + setting.unit : QString();
        const double least =
            setting.least < 0 ? setting.least : std::max(setting.least, std::pow(10.0, -setting.decimals));
        field = form.bind(
            decimal(least, setting.most, setting.decimals, setting.step, unit),
            edit, [&setting](auto& s) -> auto& { return s.solveSettings.*setting.number; });
    }
    field->setObjectName(name);
    field->setToolTip(setting.tip);
    QWidget* label = form.row(setting.label, field);
    if (setting.counts)
        form.showIf({field, label}, [&setting](const Shot& s) { return setting.counts(s.solveSettings); });
    return field;
}

void addFocalFields(ShotForm& form, const QString& edit, const QString& prefix) {
    addSettingField(form, SettingId::focal, edit, prefix);
    addSettingField(form, SettingId::focalValue, edit, prefix + "Value");
    addSettingField(form, SettingId::focalSigma, edit, prefix + "Trust");
}

}  // namespace pinion
