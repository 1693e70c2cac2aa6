#include "about.h"

#include "session/logging.h"

#include <QDialog>
#include <QPushButton>
#include <QTextBrowser>
#include <QVBoxLayout>

namespace pinion {

void showAbout(QWidget* parent) {
    auto* dialog = new QDialog(parent);
    dialog->setObjectName("about");
    dialog->setAttribute(Qt::WA_DeleteOnClose);
    dialog->setWindowTitle("About Pinion");
    dialog->resize(460, 400);
    auto* layout = new QVBoxLayout(dialog);
    auto* words = new QTextBrowser;
    words->setHtml(
        "<h2>Pinion 0.1.0</h2><p>Camera, lens and tracks from live-action footage.</p>"
        "<p>Pinion is free software under the GNU General Public License, version 3 or later. It comes with no "
        "warranty.</p>"
        "<p>It stands on Qt 6, Eigen, OpenCV, OpenImageIO, OpenEXR, FFmpeg, oneTBB, Embree, nlohmann-json, fmt, "
        "spdlog, CLI11, tl-expected and QCustomPlot. "
        "The type is Inter (SIL Open Font License 1.1), the icons are Lucide (ISC License). The notices are in "
        "NOTICES.md.</p>"
        "<p>The Ternholm footage is made up and rendered by the program in demo/.</p>"
        "<p>What was opened, how long jobs took and what went wrong is kept in the log:<br>" +
        logFile().toHtmlEscaped() + "</p>");
    layout->addWidget(words);
    auto* close = new QPushButton("Close");
    QObject::connect(close, &QPushButton::clicked, dialog, &QDialog::close);
    layout->addWidget(close, 0, Qt::AlignRight);
    dialog->show();
}

}  // namespace pinion
