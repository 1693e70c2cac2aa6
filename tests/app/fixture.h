#pragma once

// The real window, driven by the interface tests.

#include <catch2/catch.hpp>

#include "base/files.h"
#include "base/units.h"
#include "errorhistogram.h"
#include "madevideo.h"
#include "mainwindow.h"
#include "scratch.h"
#include "theme.h"

#include <QApplication>
#include <QClipboard>
#include <QCheckBox>
#include <QCloseEvent>
#include <QComboBox>
#include <QDropEvent>
#include <QLabel>
#include <QLineEdit>
#include <QLockFile>
#include <QListWidget>
#include <QMimeData>
#include <QMouseEvent>
#include <QPushButton>
#include <QSpinBox>
#include <QStandardPaths>
#include <QTableWidget>
#include <QTest>
#include <QUrl>
#include <QWheelEvent>
#include <csignal>
#include <random>
#include <sys/wait.h>
#include <unistd.h>

using namespace pinion;
using Eigen::Vector2d;

inline const std::string kPlate = std::string(PINION_SOURCE_DIR) + "/demo/plates/landing.mp4";

/// A shown, active window; closed without questions at the end.
struct Fixture {
    MainWindow window;
    Workspace& workspace = window.workspace();
    Canvas& canvas = window.canvas();

    Fixture() {
        window.resize(1280, 800);
        window.show();
        REQUIRE(QTest::qWaitForWindowExposed(&window));
        QApplication::setActiveWindow(&window);
        canvas.setFocus();
    }
    ~Fixture() {
        workspace.stopJob();
        wait();
        window.setProperty("closing", true);
        window.close();
    }
    void wait(int longest = 90000) {
        QTest::qWait(60);
        for (int waited = 0; waited < longest && workspace.isBusy(); waited += 20) QTest::qWait(20);
        REQUIRE_FALSE(workspace.isBusy());
        QTest::qWait(120);
    }
    void openPlate(const std::string& path = kPlate) {
        workspace.open(path);
        wait();
        REQUIRE(workspace.hasPlate());
        REQUIRE(QTest::qWaitFor([&] { return workspace.picture() != nullptr; }, 5000));
    }
    QPoint screen(double x, double y) { return canvas.mapping().screenFromPlate({x, y}).toPoint(); }
    void key(Qt::Key k, Qt::KeyboardModifiers m = Qt::NoModifier) {
        QTest::keyClick(&canvas, k, m);
        QTest::qWait(20);
    }
    QPushButton* button(const char* name) {
        auto* found = window.findChild<QPushButton*>(name);
        REQUIRE(found);
        return found;
    }
    /// Colour of the window's picture at a place of the plate.
    QColor seen(double x, double y) { return canvas.grab().toImage().pixelColor(screen(x, y)); }
};
