#define CATCH_CONFIG_RUNNER
#include <catch2/catch.hpp>

#include "scratch.h"
#include "widgets/theme.h"

#include <QApplication>
#include <QStandardPaths>

int main(int argc, char** argv) {
    // A home of its own: others that run beside it would offer each other their shots for recovery.
    const pinion::test::Scratch home;
    qputenv("HOME", home.path().c_str());
    for (const char* place : {"XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_CACHE_HOME", "XDG_STATE_HOME"}) qunsetenv(place);
    QStandardPaths::setTestModeEnabled(true);
    QApplication application(argc, argv);
    QApplication::setApplicationName("pinion-window-tests");
    pinion::theme::apply(application);
    return Catch::Session().run(argc, argv);
}
