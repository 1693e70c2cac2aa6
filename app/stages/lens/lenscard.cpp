#include "stages/lens/lenscard.h"

#include "base/units.h"
#include "jobs/delivering.h"
#include "jobs/places.h"
#include "shot/edits/lensedits.h"
#include "shot/stages/lensstage.h"
#include "stages/lens/lenssights.h"
#include "stages/lens/lensstage.h"
#include "stages/shotfields.h"
#include "stages/shotform.h"
#include "widgets/filedialogs.h"
#include "widgets/theme.h"

#include <QListWidget>

#include <array>
#include <cmath>

namespace pinion {
namespace {

const QString kEdit = "Change the lens";

struct SensorFormat {
    const char* name;
    double width_mm;
};
// Widths as the trade has them; of Super 35 and Super 16 the film's camera aperture, of inch sizes the usual sensors.
constexpr std::array kSensors{SensorFormat{"full frame", 36.0}, SensorFormat{"Super 35", 24.89},
                              SensorFormat{"APS-C", 23.5},      SensorFormat{"Four Thirds", 17.3},
                              SensorFormat{"1-inch", 13.2},     SensorFormat{"2/3-inch", 8.8},
                              SensorFormat{"Super 16", 12.52}};

const QStringList kViews{"plate", "undistorted", "round trip", "difference", "residual"};

QString within(double value, double deviation, int digits) {
    return deviation > 0 ? QString("%1 ± %2").arg(value, 0, 'f', digits).arg(deviation, 0, 'f', digits)
                         : QString::number(value, 'f', digits);
}

QString sentence(QString words) {
    words[0] = words[0].toUpper();
    return words + ".";
}

QString sourceWords(LensCard::Source source) {
    switch (source) {
        case LensCard::Source::lines:
            return "from lines";
        case LensCard::Source::chart:
            return "from a chart";
        case LensCard::Source::solve:
            return "from the solve";
        case LensCard::Source::file:
            return "from a file";
        case LensCard::Source::maps:
            return "from maps";
        case LensCard::Source::typed:
            return "by hand";
        default:
            return "";
    }
}

class LensCardForm : public ShotForm {
public:
    LensCardForm(Session& session, LensStage& stage) : ShotForm(session), stage_(stage) {
        addView();
        addLines();
        addNumbers();
        addSensor();
        addChart();
        addFiles();
        addPictures();
        connect(&stage, &LensStage::fitChanged, this, [this] { refresh(); });
        connect(&stage, &LensStage::viewChanged, this, [this] { refresh(); });
        refresh();
    }

private:
    QLabel* words(const char* name) {
        auto* label = named(dimLabel(""), name);
        label->setTextInteractionFlags(Qt::TextSelectableByMouse);
        wide(label);
        return label;
    }
    static void showWords(QLabel* label, const QString& words) {
        label->setText(words);
        label->setVisible(!words.isEmpty());
    }

    void addView() {
        auto* view = named(choice({"as filmed", "undistorted", "round trip", "difference", "residual"}), "lensView",
                           "Round trip: the distortion taken out and put back. Difference: how that picture differs. "
                           "Residual: how far places come back beside themselves, in pixels");
        row("See", view);
        connect(view, &QComboBox::activated, this, [this](int index) { stage_.look(kViews.value(index)); });
        auto* grid =
            named(new QCheckBox("Straight-edge grid"), "lensGrid", "Straight in life: bent as filmed (Shift+L)");
        wide(grid);
        connect(grid, &QCheckBox::clicked, this, [this](bool on) { stage_.setGrid(on); });
        auto* desqueezed =
            named(new QCheckBox("Desqueezed"), "lensDesqueezed", "A squeezed plate stretched for the eye");
        wide(desqueezed);
        connect(desqueezed, &QCheckBox::clicked, this, [this](bool on) { stage_.setDesqueezed(on); });
        onRefresh([this, view, grid, desqueezed] {
            desqueezed->setVisible(session_.shot().solveSettings.squeeze != 1);
            desqueezed->setChecked(stage_.isDesqueezed());
            view->setCurrentIndex(std::max(0, int(kViews.indexOf(stage_.looked()))));
            view->setEnabled(lensInForce(session_.shot()).has_value());
            grid->setChecked(stage_.showsGrid());
            grid->setEnabled(session_.hasPlate());
        });
    }

    void addLines() {
        auto* draw = named(button("Draw lines", "quiet"), "lensDraw",
                           "Click along what is straight in life, near the edges of the frame, in both directions (L)");
        auto* remove = named(button("Remove line"), "lensRemoveLine", "The line touched last (Shift+Backspace)");
        wide(buttonRow({draw, remove}));
        onClick(draw, [this] { stage_.drawLines(); });
        onClick(remove, [this] { stage_.removeLine(); });
        wide(bind(
            named(new QCheckBox("Snap to the edge"), "lensSnap", "New and moved places go to the edge under them"),
            "Snap lines to edges", "Leave lines as clicked", [](auto& s) -> auto& { return s.lens.snap; }));
        auto* terms = bind(
            named(choice({"find out", "k1", "k1, k2", "k1, k2, k3"}), "lensTerms",
                  "Found out: as many as the lines support"),
            kEdit, [](auto& s) -> auto& { return s.lens.terms; });
        auto* axis = bind(
            named(choice({"find out", "middle", "free"}), "lensAxis", "Where the optical axis meets the plate"), kEdit,
            [](auto& s) -> auto& { return s.lens.axis; });
        auto* termsLabel = row("Terms", terms);
        auto* axisLabel = row("Axis", axis);
        showIf({terms, axis, termsLabel, axisLabel, remove}, [](const Shot& s) { return !s.lens.lines.isEmpty(); });
        auto* result = words("lensLines");
        onRefresh([this, draw, remove, result] {
            draw->setEnabled(session_.isReady());
            remove->setEnabled(session_.isReady());
            showWords(result, linesWords());
            const LinesLens* found = stage_.linesLens();
            result->setToolTip(found ? "Why these terms: " + text(found->choice) : QString());
        });
    }
    QString linesWords() const {
        const Shot& shot = session_.shot();
        if (!session_.hasPlate()) return {};
        if (shot.lens.lines.isEmpty()) return "No lines yet. Six, near the edges and in both directions, are enough.";
        if (!stage_.linesProblem().isEmpty()) return sentence(stage_.linesProblem());
        const LinesLens* found = stage_.linesLens();
        if (!found) return "working it out…";
        QStringList lines;
        lines << QString("%1 line%2: %3 → %4 px from straight; %5, border ± %6 px")
                     .arg(found->lines.size())
                     .arg(found->lines.size() == 1 ? "" : "s")
                     .arg(found->before_px, 0, 'f', 2)
                     .arg(found->after_px, 0, 'f', 2)
                     .arg(text(found->terms))
                     .arg(found->deviations.border_px, 0, 'f', 1);
        for (std::size_t i = 0; i < found->lines.size(); ++i)
            if (found->lines[i].curved)
                lines << QString("Line %1 does not fit (%2 px): curved in life?")
                             .arg(i + 1)
                             .arg(found->lines[i].after_px, 0, 'f', 2);
        for (const std::string& warning : found->warnings) lines << sentence(text(warning));
        if (const QString cut = stage_.cutWords(); !cut.isEmpty()) lines << sentence(cut);
        return lines.join("\n");
    }

    void addNumbers() {
        auto* k1 = decimal(-5, 5, 5, 0.005);
        auto* k2 = decimal(-5, 5, 5, 0.005);
        auto* k3 = decimal(-5, 5, 4, 0.005);
        auto* cx = decimal(-20000, 40000, 2, 1);
        auto* cy = decimal(-20000, 40000, 2, 1);
        k1->setObjectName("lensK1");
        k2->setObjectName("lensK2");
        wide(columns({{"k1", k1}, {"k2", k2}}));
        wide(columns({{"k3", k3}, {"Axis x", cx}, {"Axis y", cy}}));
        const auto typed = [this](double Lens::*member) {
            return [this, member](double value) { typeValue(member, value); };
        };
        connect(k1, &QDoubleSpinBox::valueChanged, this, typed(&Lens::k1));
        connect(k2, &QDoubleSpinBox::valueChanged, this, typed(&Lens::k2));
        connect(k3, &QDoubleSpinBox::valueChanged, this, typed(&Lens::k3));
        connect(cx, &QDoubleSpinBox::valueChanged, this, typed(&Lens::cx));
        connect(cy, &QDoubleSpinBox::valueChanged, this, typed(&Lens::cy));
        auto* sure = words("lensSure");
        auto* clear = named(button("As filmed"), "lensClear", "No lens: the plate is taken as it is");
        wide(buttonRow({clear}));
        onClick(clear, [this] { session_.edit("Take the lens away", withLens(session_.shot(), std::nullopt, {})); });
        onRefresh([this, k1, k2, k3, cx, cy, sure, clear] {
            const Lens lens = heldOrPlain();
            setQuietly(k1, lens.k1);
            setQuietly(k2, lens.k2);
            setQuietly(k3, lens.k3);
            setQuietly(cx, lens.cx);
            setQuietly(cy, lens.cy);
            for (QDoubleSpinBox* box : {k1, k2, k3, cx, cy}) box->setEnabled(session_.isReady() && !lens.field);
            clear->setVisible(session_.shot().lens.lens.has_value());
            clear->setEnabled(!session_.isBusy());
            showWords(sure, sureWords());
        });
    }
    Lens heldOrPlain() const {
        const Shot& shot = session_.shot();
        if (shot.lens.lens) return *shot.lens.lens;
        Lens lens = pinholeLens(shot.plate.width, shot.plate.height, focalForLens_px(shot));
        lens.squeeze = shot.solveSettings.squeeze;
        return lens;
    }
    void typeValue(double Lens::*member, double value) {
        Lens lens = heldOrPlain();
        if (lens.*member == value) return;
        lens.*member = value;
        if (const auto sound = checkLens(lens); !sound) {
            session_.sayError(text(sound.error().message) + ". The lens stays as it was.");
            refresh();
            return;
        }
        session_.edit(kEdit, withLens(session_.shot(), lens, LensCard::Source::typed));
    }
    QString sureWords() const {
        const Shot& shot = session_.shot();
        const LensCard& card = shot.lens;
        if (!card.lens) return {};
        if (card.lens->field) return mapsWords(card);
        QStringList lines;
        QString terms = sourceWords(card.source) + QString(": k1 %1").arg(within(card.lens->k1, card.deviations.k1, 5));
        if (card.lens->k2 != 0 || card.deviations.k2 > 0)
            terms += QString(", k2 %1").arg(within(card.lens->k2, card.deviations.k2, 5));
        lines << terms;
        if (card.deviations.focal_px > 0)
            lines << QString("focal %1 px").arg(within(card.lens->focal_px, card.deviations.focal_px, 1));
        if (card.deviations.axis_px.norm() > 0)
            lines << QString("axis ± %1, %2 px")
                         .arg(card.deviations.axis_px.x(), 0, 'f', 1)
                         .arg(card.deviations.axis_px.y(), 0, 'f', 1);
        return lines.join("\n");
    }

    static QString mapsWords(const LensCard& card) {
        QStringList lines;
        if (!card.maps.undistorting.empty()) {
            const auto name = [](const std::string& path) {
                return text(std::filesystem::path(path).filename().string());
            };
            lines << QString("from maps %1, %2").arg(name(card.maps.undistorting), name(card.maps.redistorting));
            lines << QString("places return within %1 px%2")
                         .arg(card.maps.returns_px, 0, 'f', 4)
                         .arg(card.maps.half ? ", of half floats, smoothed" : "");
        } else {
            lines << "from maps, in a file";
        }
        const Lens& lens = *card.lens;
        if (const auto corner = undistortedFromPlate(lens, {0, 0}))
            lines << QString("%1: the corner goes %2 px")
                         .arg(corner->x() < 0 ? "barrel" : "pincushion")
                         .arg(corner->norm(), 0, 'f', 1);
        return lines.join("\n");
    }

    void addSensor() {
        QStringList names;
        for (const SensorFormat& format : kSensors) names << format.name;
        auto* format = named(choice(names << "other"), "lensSensor", "The width of the sensor behind the plate");
        auto* width = bind(
            decimal(1, 100, 2, 1, " mm"), "Change the sensor",
            [](auto& s) -> auto& { return s.solveSettings.sensorWidth_mm; });
        row("Sensor", format);
        row("Width", width);
        connect(format, &QComboBox::activated, this, [this](int index) {
            if (index < int(kSensors.size()))
                change("Change the sensor",
                       [&](Shot& shot) { shot.solveSettings.sensorWidth_mm = kSensors[std::size_t(index)].width_mm; });
        });
        addFocalFields(*this, kEdit, "lensFocal");
        addSettingField(*this, SettingId::squeeze, "Change the squeeze", "lensSqueeze");
        auto* aspect = words("lensAspect");
        onRefresh([this, aspect] {
            const double held = session_.shot().solveSettings.squeeze;
            showWords(aspect,
                      held == 1 ? QString() : QString("a pixel is %1 times as wide as high").arg(1 / held, 0, 'f', 3));
        });
        auto* angle = words("lensAngle");
        onRefresh([this, format, angle] {
            const Shot& shot = session_.shot();
            const double sensor = shot.solveSettings.sensorWidth_mm;
            const auto known = std::find_if(kSensors.begin(), kSensors.end(), [&](const SensorFormat& f) {
                return std::abs(f.width_mm - sensor) < 0.005;
            });
            format->setCurrentIndex(int(known - kSensors.begin()));
            showWords(angle, session_.hasPlate() ? angleWords(shot) : QString());
        });
    }
    static QString angleWords(const Shot& shot) {
        const double focal_px =
            shot.lens.lens && shot.lens.deviations.focal_px > 0 ? shot.lens.lens->focal_px : focalForLens_px(shot);
        const double sensor = shot.solveSettings.sensorWidth_mm;
        const double focal_mm = focalMillimetres(focal_px, sensor, shot.plate.width);
        const bool told =
            shot.solveSettings.focal != Knowledge::unknown || shot.solve || shot.lens.deviations.focal_px > 0;
        return QString("%1%2 mm sees %3° across, %4° up")
            .arg(told ? "" : "assumed: ")
            .arg(focal_mm, 0, 'f', 1)
            .arg(horizontalAngle(focal_mm, sensor / shot.solveSettings.squeeze), 0, 'f', 1)
            .arg(horizontalAngle(focal_mm, sensor * shot.plate.height / shot.plate.width), 0, 'f', 1);
    }
    static double horizontalAngle(double focal_mm, double width_mm) {
        return degrees(2.0 * std::atan(width_mm / (2.0 * focal_mm)));
    }

    void addChart() {
        auto* across = bind(
            spin(3, 200), "Change the chart", [](auto& s) -> auto& { return s.lens.chart.columns; });
        auto* down = bind(
            spin(3, 200), "Change the chart", [](auto& s) -> auto& { return s.lens.chart.rows; });
        auto* square = bind(
            decimal(0.001, 10000, 3, 1), "Change the chart", [](auto& s) -> auto& { return s.lens.chart.square; });
        auto* title = dimLabel("Chart: inner corners, and a square's edge");
        wide(title);
        wide(columns({{"Across", across}, {"Down", down}, {"Square", square}}));
        auto* measure = named(button("Measure a chart…"), "lensChart",
                              "Three pictures or more of a chessboard, turned between them, taken through this lens");
        wide(buttonRow({measure}));
        onClick(measure,
                [this] { stage_.measureChart(askToOpenSome(FileKind::charts, "Pictures of the chart", this)); });
        auto* views = named(new QListWidget, "lensViews", "Click to see the picture with its corners");
        views->setAccessibleName("Pictures of the chart");
        views->setMaximumHeight(130);
        wide(views);
        const auto look = [this](const QListWidgetItem* item) {
            if (item) stage_.lookAtChart(std::size_t(item->listWidget()->row(item)));
        };
        connect(views, &QListWidget::itemClicked, this, look);
        connect(views, &QListWidget::itemActivated, this, look);
        onRefresh([this, measure, views] {
            measure->setEnabled(session_.isReady());
            const auto& seen = session_.shot().lens.views;
            views->setVisible(!seen.isEmpty());
            QStringList labels;
            for (const ChartView& view : seen)
                labels << text(view.name) + (view.used ? QString("  %1 px").arg(view.rms_px, 0, 'f', 2)
                                                       : "  set aside: " + text(view.trouble));
            QStringList shown;
            for (int i = 0; i < views->count(); ++i) shown << views->item(i)->text();
            if (labels == shown) return;  // what is clicked stays as it is
            views->clear();
            for (int i = 0; i < labels.size(); ++i) {
                auto* item = new QListWidgetItem(labels[i], views);
                if (!seen[std::size_t(i)].used) item->setForeground(theme::kCoral);
                item->setToolTip(labels[i]);
            }
        });
    }

    void addFiles() {
        auto* take = named(button("Take from the solve"), "lensFromSolve", "The lens that the camera solve has found");
        auto* open = named(button("Open…"), "lensOpen", "A lens.json, or a calibration as OpenCV writes it (YAML)");
        auto* save = named(button("Save…"), "lensSave", "As .json, or .yml for OpenCV");
        auto* maps = named(button("Maps…"), "lensMaps",
                           "A pair of ST maps made elsewhere: the one that undistorts, then the one that redistorts");
        wide(buttonRow({open, maps, save}));
        wide(buttonRow({take}));
        onClick(maps, [this] { stage_.askForMaps(); });
        onClick(take, [this] { stage_.takeFromSolve(); });
        onClick(open, [this] { stage_.openLens(); });
        onClick(save, [this] { stage_.saveLens(); });
        onRefresh([this, take, open, save, maps] {
            maps->setEnabled(session_.isReady());
            take->setEnabled(session_.shot().solve && !session_.isBusy());
            open->setEnabled(session_.isReady());
            save->setEnabled(lensInForce(session_.shot()).has_value());
        });
    }

    void addPictures() {
        auto* overscan = bind(
            named(choice({"as needed", "none", "pixels"}), "lensOverscan",
                  "How far the undistorted picture reaches beyond the frame"),
            kEdit, [](auto& s) -> auto& { return s.lens.overscan.kind; });
        row("Overscan", overscan);
        auto* pixels = bind(
            spin(0, 32768, " px"), kEdit, [](auto& s) -> auto& { return s.lens.overscan.pixels; });
        auto* pixelsLabel = row("On every side", pixels);
        showIf({pixels, pixelsLabel}, [](const Shot& s) { return s.lens.overscan.kind == Overscan::Kind::pixels; });
        row("Filter", bind(
                          named(choice({"bilinear", "bicubic", "Lanczos", "area"}), "lensFilter",
                                "Area: for lenses that bend strongly"),
                          kEdit, [](auto& s) -> auto& { return s.lens.filter; }));
        auto* needed = words("lensNeeded");
        auto* undistort = named(button("Undistort…"), "lensRender", "The plate without its distortion, as pictures");
        auto* redistort =
            named(button("Put back…"), "lensPutBack", "The distortion is put into pictures made without it");
        wide(buttonRow({undistort, redistort}));
        onClick(undistort, [this] {
            const Shot& shot = session_.shot();
            const auto folder = deliveryFolderOf(shot, session_.document.file());
            const QString path =
                askToSave(FileKind::plate, "Undistorted plate",
                          text((folder / (fileNameOf(shot.name) + ".undistorted.####.exr")).string()), this);
            if (!path.isEmpty()) stage_.renderUndistorted(path.toStdString());
        });
        onClick(redistort, [this] {
            const QString from = askToOpen(FileKind::plate, "Pictures made without distortion", this);
            if (from.isEmpty()) return;
            const QString path = askToSave(FileKind::plate, "With the distortion put back",
                                           text(session_.shot().name + ".redistorted.####.exr"), this);
            if (!path.isEmpty()) stage_.redistort(from.toStdString(), path.toStdString());
        });
        onRefresh([this, needed, undistort, redistort] {
            const auto lens = lensInForce(session_.shot());
            undistort->setEnabled(lens && session_.isReady());
            redistort->setEnabled(lens && session_.isReady());
            if (!lens) {
                showWords(needed, "");
                return;
            }
            const auto& box = stage_.undistortedBox();
            showWords(needed, box ? overscanWords(*box, lens->width, lens->height) : text(box.error().message));
        });
    }

    LensStage& stage_;
};

}  // namespace

QWidget* makeLensCard(Session& session, LensStage& stage) { return new LensCardForm(session, stage); }

}  // namespace pinion
