#include "settingsdialog.h"

#include "session/session.h"
#include "session/settings.h"
#include "widgets/form.h"

#include <QDialog>
#include <QDialogButtonBox>
#include <QVBoxLayout>

namespace pinion {

void showSettings(Session& session, QWidget* parent) {
    auto* dialog = new QDialog(parent);
    dialog->setObjectName("settings");
    dialog->setAttribute(Qt::WA_DeleteOnClose);
    dialog->setWindowTitle("Settings");
    auto* layout = new QVBoxLayout(dialog);
    auto* form = new Form;
    const Settings now = readSettings();
    auto* cache = spin(64, 1 << 20, " MiB");
    cache->setObjectName("cacheBudget");
    cache->setSingleStep(256);
    cache->setValue(now.cache_mib);
    auto* threads = spin(0, 1024);
    threads->setObjectName("threads");
    threads->setSpecialValueText("all");
    threads->setValue(now.threads);
    form->row("Pictures in memory", cache);
    form->row("Threads for jobs", threads);
    form->wide(
        dimLabel("More memory lets longer stretches play at once. Fewer threads leave processors to other "
                 "programs."));
    layout->addWidget(form);
    auto* buttons = new QDialogButtonBox(QDialogButtonBox::Ok | QDialogButtonBox::Cancel);
    layout->addWidget(buttons);
    QObject::connect(buttons, &QDialogButtonBox::rejected, dialog, &QDialog::reject);
    QObject::connect(buttons, &QDialogButtonBox::accepted, dialog, [&session, dialog, cache, threads] {
        // What is being typed counts too.
        cache->interpretText();
        threads->interpretText();
        const Settings wanted{cache->value(), threads->value()};
        keepSettings(wanted);
        session.apply(wanted);
        dialog->accept();
    });
    dialog->show();
}

}  // namespace pinion
