#include "widgets/theme.h"

#include <QFile>
#include <QFontDatabase>
#include <QPainter>
#include <QPalette>
#include <QStyleFactory>
#include <QSvgRenderer>

#include <algorithm>

namespace pinion::theme {
namespace {

QColor between(const QColor& a, const QColor& b, double share) {
    const auto mix = [&](int x, int y) { return int(x + (y - x) * share); };
    return {mix(a.red(), b.red()), mix(a.green(), b.green()), mix(a.blue(), b.blue())};
}

QPixmap drawn(const QByteArray& svg, const QColor& colour) {
    QByteArray tinted = svg;
    tinted.replace("currentColor", colour.name().toUtf8());
    QSvgRenderer renderer(tinted);
    QPixmap pixmap(32, 32);
    pixmap.fill(Qt::transparent);
    QPainter painter(&pixmap);
    renderer.render(&painter);
    return pixmap;
}

const char* const kStyleSheet = R"(
QWidget { color: #dddddd; font-family: Inter; font-size: 12px; }
QMainWindow, QDialog { background: #1b1b1b; }
QMenuBar { background: #1b1b1b; padding: 2px 4px; }
QMenuBar::item { background: transparent; padding: 6px 9px; border-radius: 4px; }
QMenuBar::item:selected { background: #2b2b2b; }
QMenu { background: #242424; border: 1px solid #3a3a3a; padding: 4px; }
QMenu::item { padding: 6px 28px 6px 12px; border-radius: 4px; }
QMenu::item:selected { background: #3a3325; }
QMenu::item:disabled { color: #777777; }
QMenu::separator { height: 1px; background: #363636; margin: 4px 8px; }
QPushButton, QToolButton { background: #2b2b2b; border: 1px solid #2b2b2b; border-radius: 4px; padding: 5px 8px; }
QPushButton:hover, QToolButton:hover { background: #343434; }
QPushButton:pressed, QToolButton:pressed { background: #3c3c3c; }
QPushButton:focus, QToolButton:focus { border-color: #d9a441; }
QPushButton:checked { background: #3a3325; border-color: #8a6c30; color: #e9bd66; }
QPushButton:disabled, QToolButton:disabled { color: #777777; }
QPushButton[accent="true"] { background: #d9a441; border-color: #d9a441; color: #1b1b1b; font-weight: 600; }
QPushButton[accent="true"]:hover { background: #e6b455; }
QPushButton[accent="true"]:disabled { background: #4b4232; border-color: #4b4232; color: #9a9a9a; }
QPushButton[quiet="true"] { background: #3a3325; border-color: #3a3325; color: #e9bd66; }
QPushButton[quiet="true"]:hover { background: #483e2b; }
QPushButton[quiet="true"]:disabled { background: #2b2b2b; border-color: #2b2b2b; color: #777777; }
QToolButton { background: transparent; border-color: transparent; padding: 5px 7px; }
QFileDialog QToolButton { padding: 2px; }
QToolButton:checked { background: #3a3325; color: #e9bd66; }
QSpinBox, QDoubleSpinBox, QComboBox, QLineEdit { background: #171717; border: 1px solid #383838; border-radius: 4px;
    padding: 3px 6px; selection-background-color: #6b5326; min-height: 18px; }
QSpinBox:focus, QDoubleSpinBox:focus, QComboBox:focus, QLineEdit:focus { border-color: #d9a441; }
QSpinBox::up-button, QSpinBox::down-button { width: 0; border: none; }
QDoubleSpinBox::up-button, QDoubleSpinBox::down-button { width: 0; border: none; }
QComboBox::drop-down { border: none; width: 18px; }
QComboBox::down-arrow { image: url(:/icons/arrow-down.svg); width: 10px; height: 10px; }
QComboBox QAbstractItemView { background: #242424; border: 1px solid #3a3a3a; selection-background-color: #3a3325; }
QScrollArea { border: none; background: transparent; }
QScrollBar:vertical { background: transparent; width: 8px; margin: 0; }
QScrollBar::handle:vertical { background: #444444; border-radius: 4px; min-height: 24px; }
QScrollBar::add-line, QScrollBar::sub-line { height: 0; width: 0; }
QScrollBar::add-page, QScrollBar::sub-page { background: transparent; }
QToolTip { background: #2b2b2b; color: #dddddd; border: 1px solid #444444; padding: 4px; }
QCheckBox::indicator { width: 13px; height: 13px; border: 1px solid #555555; border-radius: 3px; background: #171717; }
QCheckBox:focus { color: #e9bd66; }
QCheckBox::indicator:focus { border-color: #d9a441; }
QCheckBox::indicator:checked { background: #d9a441; border-color: #d9a441; }
QTableWidget, QListWidget { background: #1f1f1f; border: 1px solid #333333; border-radius: 4px;
    gridline-color: #2d2d2d; alternate-background-color: #232323; }
QTableWidget:focus, QListWidget:focus { border-color: #d9a441; }
QListWidget::item { padding: 5px 8px; }
QListWidget::item:selected, QTableWidget::item:selected { background: #3a3325; color: #f0e2c4; }
QHeaderView::section { background: #262626; color: #a2a2a2; border: none; padding: 4px 8px; }
QSplitter::handle { background: #2b2b2b; }
QSplitter::handle:hover { background: #6b5326; }
QLabel[dim="true"] { color: #a2a2a2; }
QLabel[title="true"] { font-weight: 600; }
QLabel[note="true"] { background: #2c2422; border-left: 2px solid #f07b5b; padding: 6px 8px; color: #efcdbd; }
)";

}  // namespace

void apply(QApplication& application) {
    for (const char* face : {"Regular", "Medium", "SemiBold"})
        QFontDatabase::addApplicationFont(QString(":/fonts/Inter-%1.otf").arg(face));
    application.setStyle(QStyleFactory::create("Fusion"));
    QFont font("Inter");
    font.setPixelSize(12);
    application.setFont(font);
    QPalette palette;
    palette.setColor(QPalette::Window, kGround);
    palette.setColor(QPalette::WindowText, kText);
    palette.setColor(QPalette::Base, QColor(0x17, 0x17, 0x17));
    palette.setColor(QPalette::AlternateBase, kPanel);
    palette.setColor(QPalette::Text, kText);
    palette.setColor(QPalette::Button, kRaised);
    palette.setColor(QPalette::ButtonText, kText);
    palette.setColor(QPalette::Highlight, QColor(0x6b, 0x53, 0x26));
    palette.setColor(QPalette::HighlightedText, kText);
    palette.setColor(QPalette::PlaceholderText, kDim);
    palette.setColor(QPalette::Disabled, QPalette::WindowText, QColor(0x77, 0x77, 0x77));
    palette.setColor(QPalette::Disabled, QPalette::Text, QColor(0x77, 0x77, 0x77));
    application.setPalette(palette);
    application.setStyleSheet(kStyleSheet);
    application.setWindowIcon(QIcon(":/pinion.svg"));
}

void drawFocus(QPainter& painter, const QRectF& around) {
    painter.setBrush(Qt::NoBrush);
    painter.setPen(QPen(kBrass, 1));
    painter.drawRoundedRect(around, 4, 4);
}

QIcon icon(const QString& name) {
    QFile file(QString(":/icons/%1.svg").arg(name));
    if (!file.open(QIODevice::ReadOnly)) return {};
    const QByteArray svg = file.readAll();
    QIcon result;
    result.addPixmap(drawn(svg, kText), QIcon::Normal, QIcon::Off);
    result.addPixmap(drawn(svg, kBrass), QIcon::Normal, QIcon::On);
    result.addPixmap(drawn(svg, QColor(0x66, 0x66, 0x66)), QIcon::Disabled);
    return result;
}

QColor fitColour(double badness) {
    badness = std::clamp(badness, 0.0, 1.0);
    // Slate gets a little lighter before it warms, so that even small differences show.
    if (badness < 0.35) return between(QColor(0x46, 0x50, 0x53), kSlate, badness / 0.35);
    if (badness < 0.65) return between(kSlate, kSand, (badness - 0.35) / 0.3);
    return between(kSand, kCoral, (badness - 0.65) / 0.35);
}

double badnessOfScore(double score) { return std::clamp((1.0 - score) / 0.2, 0.0, 1.0); }
double badnessOfError(double error_px) { return std::clamp(error_px / 2.0, 0.0, 1.0); }

}  // namespace pinion::theme
