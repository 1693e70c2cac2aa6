#include "base/log.h"
#include "base/memory.h"
#include "mainwindow.h"
#include "session/logging.h"
#include "widgets/theme.h"

#include <QApplication>
#include <QCommandLineParser>
#include <QElapsedTimer>
#include <QTimer>

int main(int argc, char** argv) {
    QElapsedTimer opening;
    opening.start();
    pinion::returnLargeBlocks();
    QApplication application(argc, argv);
    QApplication::setApplicationName("pinion");
    QApplication::setOrganizationName("pinion");
    QApplication::setApplicationVersion("0.1.0");
    QCommandLineParser parser;
    parser.setApplicationDescription("Camera, lens and tracks from live-action footage.");
    parser.addHelpOption();
    parser.addVersionOption();
    parser.addPositionalArgument("file", "a plate (video, sequence, folder) or a .pinion shot");
    QCommandLineOption picture("picture", "save a picture of the window to FILE once the plate is shown, and end",
                               "FILE");
    parser.addOption(picture);
    parser.process(application);
    pinion::log::open(pinion::logFile().toStdString());
    pinion::log::info("started");
    pinion::theme::apply(application);

    pinion::MainWindow window;
    window.showInPlace();
    QTimer::singleShot(0, &window,
                       [&opening] { pinion::log::info("window open: {:.2f} s", double(opening.elapsed()) / 1000); });
    window.offerRecovery();
    if (!parser.positionalArguments().isEmpty())
        window.session().open(parser.positionalArguments().front().toStdString());
    if (parser.isSet(picture)) {
        const QString file = parser.value(picture);
        const bool expectsPlate = !parser.positionalArguments().isEmpty();
        auto* poll = new QTimer(&window);
        QObject::connect(poll, &QTimer::timeout, &window, [&window, file, expectsPlate, tries = 0]() mutable {
            const bool ready = !expectsPlate || (!window.canvas().image().isNull() && !window.session().isBusy());
            if (!ready && ++tries < 300) return;
            const bool saved = window.grab().save(file);
            window.setProperty("closing", true);
            QApplication::exit(ready && saved ? 0 : 1);
        });
        poll->start(200);
    }
    return QApplication::exec();
}
