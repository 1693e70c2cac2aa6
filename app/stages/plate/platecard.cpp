#include "stages/plate/platecard.h"

#include "base/files.h"
#include "stages/shotform.h"

namespace pinion {
namespace {

QString factsOf(const Session& session) {
    const Shot& shot = session.shot();
    if (!session.hasPlate())
        return shot.plate.isOpen() ? "The plate of this shot could not be opened:\n" + text(shot.plate.path.string())
                                   : QString("No plate yet. Open a video, a numbered sequence or a shot.");
    const PlateFacts& f = session.player.frames()->facts();
    return QString("%1\n%2 × %3 · %4 frames/s%5\nframes %6–%7, working on %8–%9\n%10, %11")
        .arg(text(f.path.filename().string()))
        .arg(f.width)
        .arg(f.height)
        .arg(text(toString(f.fps)))
        .arg(f.fpsFromPlate ? "" : " (assumed)")
        .arg(f.firstFrame)
        .arg(f.lastFrame)
        .arg(shot.plate.range.first)
        .arg(shot.plate.range.last)
        .arg(text(f.pixelFormat), f.linear ? "linear, shown through sRGB" : "shown as it is");
}

QString remarksOf(const Session& session) {
    QStringList lines;
    if (!session.hasPlate()) return {};
    const PlateFacts& f = session.player.frames()->facts();
    if (!f.missing.empty()) lines << "Missing: " + text(frameRanges(f.missing));
    for (const std::string& remark : f.remarks) {
        lines << text(remark);
        lines.back()[0] = lines.back()[0].toUpper();
    }
    return lines.join("\n");
}

QString notesOf(const std::optional<PlateCheck>& check) {
    QStringList lines;
    if (!check) return {};
    for (const PlateNote& note : check->notes) lines << text(note.words);
    return lines.isEmpty() ? QString("Checked: nothing to watch for.") : lines.join("\n");
}

void showWords(QLabel* label, const QString& words) {
    label->setText(words);
    label->setVisible(!words.isEmpty());
}

}  // namespace

QWidget* makePlateCard(Session& session, PlateStage& stage) {
    auto* form = new ShotForm(session);
    auto* check = button("Check the plate");
    check->setToolTip("Sharpness, motion, brightness, noise and cuts of every frame, as a strip over the thread sheet");
    check->setProperty("quiet", true);
    auto* notes = dimLabel("");
    notes->setObjectName("plateNotes");
    form->onTop([&] {
        form->wide(buttonRow({check}));
        form->wide(notes);
    });
    auto* facts = dimLabel("");
    facts->setTextInteractionFlags(Qt::TextSelectableByMouse);
    form->wide(facts);
    auto* exposure = decimal(-8, 8, 1, 0.5, " stops");
    auto* gamma = decimal(0.2, 4, 2, 0.1);
    gamma->setValue(1);
    form->row("Exposure (view)", exposure);
    form->row("Gamma (view)", gamma);
    const auto view = [&session, exposure, gamma] { session.player.setView({exposure->value(), gamma->value()}); };
    for (QDoubleSpinBox* box : {exposure, gamma}) QObject::connect(box, &QDoubleSpinBox::valueChanged, form, view);
    auto* remarks = dimLabel("");
    remarks->setObjectName("plateRemarks");
    form->wide(remarks);
    ShotForm::onClick(check, [&stage] { stage.startCheck(); });
    form->onRefresh([&session, &stage, facts, remarks, check, notes] {
        facts->setText(factsOf(session));
        showWords(remarks, remarksOf(session));
        check->setEnabled(session.isReady());
        showWords(notes, notesOf(stage.check()));
    });
    QObject::connect(&stage, &PlateStage::checkChanged, form, [form] { form->refresh(); });
    form->refresh();
    return form;
}

}  // namespace pinion
