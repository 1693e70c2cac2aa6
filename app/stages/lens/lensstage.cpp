#include "stages/lens/lensstage.h"

#include "canvas/canvas.h"
#include "base/files.h"
#include "exchange/formats.h"
#include "exchange/opencvlens.h"
#include "jobs/lensing.h"
#include "plate/cuts.h"
#include "shot/edits/lensedits.h"
#include "shot/stages/lensstage.h"
#include "stages/lens/lenscard.h"
#include "stages/lens/chartsight.h"
#include "stages/lens/lensoverlays.h"
#include "stages/lens/lenssights.h"
#include "stages/lens/linetool.h"
#include "stages/reasons.h"
#include "widgets/commands.h"
#include "widgets/filedialogs.h"
#include "widgets/toolbar.h"

namespace pinion {

using K = QKeySequence;

LensStage::LensStage(Session& session)
    : Stage(session),
      fit_(session.jobs,
           [this] {
               takeFit();
               emit fitChanged();
           }),
      cuts_(session.jobs, [this] { emit fitChanged(); }),
      sights_(std::make_unique<LensSights>(session)) {
    connect(&session.document, &Document::changed, this, &LensStage::refreshFit);
    connect(&session.player, &Player::plateChanged, this, &LensStage::refreshFit);
}

LensStage::~LensStage() = default;

StageReport LensStage::report() const { return lensReport(session_.shot()); }

QWidget* LensStage::makeCard() { return makeLensCard(session_, *this); }

// ---- what the lines say

void LensStage::refreshFit() {
    const Shot& shot = session_.shot();
    if (shot.lens.lines.isEmpty() || !shot.plate.isOpen()) {
        fit_.clear();
        cuts_.clear();
        bends_.clear();
        return;
    }
    const std::uint64_t key = linesKey(shot);
    if (fit_.key() != key) {
        bends_.clear();
        LinesToFit fit = linesToFit(shot);
        fit_.want(key, [lines = std::move(fit.lines), options = fit.options](const Progress&) {
            return lensFromLines(lines, options);
        });
    }
    takeFit();
    refreshCuts();
}

namespace {

std::vector<int> lineFrames(const Shot& shot) {
    std::vector<int> frames;
    for (const LensLine& line : shot.lens.lines) frames.push_back(line.frame);
    return frames;
}

}  // namespace

void LensStage::refreshCuts() {
    const auto range = framesOfLines(lineFrames(session_.shot()));
    const auto frames = session_.player.sharedFrames();
    if (!range || !frames) {
        cuts_.clear();
        return;
    }
    cuts_.want({frames, range->first, range->last},
               [range = *range, frames](const Progress& progress) -> Expected<std::vector<int>> {
                   return findCuts(*frames, range.first, range.last, progress);
               });
}

QString LensStage::cutWords() const {
    if (!cuts_.value()) return {};
    return text(pinion::cutWords(lineFrames(session_.shot()), *cuts_.value()));
}

/// The lens in the shot is what its lines say: no step of its own, it belongs to the edit of the lines.
void LensStage::takeFit() {
    if (!isFitted()) return;
    const Shot& shot = session_.shot();
    if (bends_.empty()) {
        bends_.resize(shot.lens.lines.size());
        const std::vector<std::size_t> places = linesToFit(shot).places;
        for (std::size_t i = 0; i < places.size(); ++i) bends_[places[i]] = fit_.value()->lines[i];
    }
    if (shot.lens.source != LensCard::Source::lines || shot.lens.lens == fit_.value()->lens) return;
    session_.document.amend(withLens(shot, fit_.value()->lens, LensCard::Source::lines, fit_.value()->deviations));
}

bool LensStage::isFitted() const {
    return fit_.value() && !fit_.isPending() && fit_.key() == linesKey(session_.shot());
}

std::optional<LineBend> LensStage::bendOf(std::size_t line) const {
    return line < bends_.size() ? bends_[line] : std::nullopt;
}

// ---- the window

void LensStage::furnish(const Desk& desk) {
    auto tool = std::make_unique<LineTool>(session_, desk.canvas);
    lineTool_ = tool.get();
    desk.canvas.addTool(std::move(tool));
    desk.canvas.addOverlay(std::make_unique<LensGridOverlay>(session_, *this));
    desk.canvas.addOverlay(std::make_unique<LinesOverlay>(session_, *this));
    desk.canvas.addSight(std::make_unique<UndistortedSight>(*sights_));
    desk.canvas.addSight(std::make_unique<RoundTripSight>(*sights_, false));
    desk.canvas.addSight(std::make_unique<RoundTripSight>(*sights_, true));
    desk.canvas.addSight(std::make_unique<ResidualSight>(*sights_));
    desk.canvas.addSight(std::make_unique<ChartSight>(session_, *this));
    connect(&session_.document, &Document::changed, this, &LensStage::refreshAspect);
    connect(this, &LensStage::fitChanged, &desk.canvas, [canvas = &desk.canvas] { canvas->update(); });
    connect(this, &LensStage::viewChanged, &desk.canvas, [canvas = &desk.canvas] { canvas->refreshView(); });
    connect(&desk.canvas, &Canvas::looked, this, &LensStage::viewChanged);
    connect(&session_.document, &Document::changed, &desk.canvas, [canvas = &desk.canvas] {
        if (!canvas->sight().isEmpty()) canvas->refreshView();
    });
    desk.tools.addTool("line", "Line", {}, "Click along what is straight in life; double click or Enter ends it (L)",
                       [this] { drawLines(); });
    desk.tools.addView("undistorted", "Undistorted", "The plate without its distortion",
                       [desk] { desk.show("undistorted"); });

    addLineCommands(desk);
    addLensCommands(desk);
}

void LensStage::addLineCommands(const Desk& desk) {
    const auto plate = [this] { return whyNotReady(session_); };
    const auto held = [this, plate] {
        return !plate().isEmpty() ? plate() : lineTool_->line() ? QString() : QString("no line is in hand");
    };
    Commands& c = desk.commands;
    c.add(
        "Lens", "Draw lines", {K("L")},
        [this, desk] {
            desk.openCard(id());
            drawLines();
        },
        plate);
    const auto onCanvas = [&](const QString& name, const K& key, const std::function<void()>& run) {
        // Elsewhere these keys belong to whatever is typed into.
        QAction* action = c.add("Lens", name, {key}, run, held);
        action->setShortcutContext(Qt::WidgetShortcut);
        desk.canvas.addAction(action);
    };
    onCanvas("End the line", K("Return"), [this] { lineTool_->endLine(); });
    onCanvas("Take out the last place", K("Backspace"), [this] { lineTool_->removeLast(); });
    onCanvas("Remove the line", K("Shift+Backspace"), [this] { removeLine(); });
}

void LensStage::addLensCommands(const Desk& desk) {
    const auto plate = [this] { return whyNotReady(session_); };
    const auto lens = [this] {
        return !session_.hasPlate() ? QString("no plate is open")
               : sights_->lens()    ? QString()
                                    : QString("there is no lens yet");
    };
    Commands& c = desk.commands;
    c.add(
        "Lens", "Take the lens from the solve", {}, [this] { takeFromSolve(); },
        [this] { return session_.shot().solve ? whyBusy(session_) : QString("the camera is not solved yet"); });
    c.add(
        "Lens", "Open lens…", {}, [this] { openLens(); }, plate);
    c.add(
        "Lens", "Open ST maps…", {}, [this] { askForMaps(); }, plate);
    c.add(
        "Lens", "Save lens…", {}, [this] { saveLens(); }, lens);
    c.add(
        "View", "Undistorted", {K("Ctrl+6")}, [desk] { desk.show("undistorted"); }, lens);
    c.add(
        "View", "Round trip through the lens", {K("Ctrl+7")}, [desk] { desk.show("round trip"); }, lens);
    c.add(
        "View", "Difference of the round trip", {K("Ctrl+8")}, [desk] { desk.show("difference"); }, lens);
    c.add(
        "View", "Residual of the round trip", {K("Ctrl+9")}, [desk] { desk.show("residual"); }, lens);
    c.add(
        "View", "Desqueezed", {}, [this] { setDesqueezed(!desqueezed_); },
        [this] {
            return session_.hasPlate() && session_.shot().solveSettings.squeeze == 1
                       ? QString("the plate is not squeezed: its squeeze is 1")
                       : whyNoPlate(session_);
        });
    c.add(
        "View", "Straight-edge grid", {K("Shift+L")}, [this] { setGrid(!grid_); },
        [this] { return whyNoPlate(session_); });
}

void LensStage::drawLines() {
    if (!isFurnished()) return;
    if (shown() == "3d") show("plate");
    takeInHand("line");
}

void LensStage::removeLine() {
    if (lineTool_) lineTool_->removeLine();
}

void LensStage::look(const QString& view) {
    if (isFurnished()) show(view);
}

const Expected<PixelBox>& LensStage::undistortedBox() const { return sights_->chosenBox(); }

QString LensStage::looked() const { return shown(); }

void LensStage::setGrid(bool shown) {
    grid_ = shown;
    emit viewChanged();
}

void LensStage::lookAtChart(std::size_t view) {
    chartView_ = view;
    look("chart");
    emit viewChanged();
}

void LensStage::setDesqueezed(bool stretched) {
    desqueezed_ = stretched;
    refreshAspect();
    emit viewChanged();
}

void LensStage::refreshAspect() {
    if (isFurnished()) desk().canvas.setPixelAspect(desqueezed_ ? 1 / session_.shot().solveSettings.squeeze : 1);
}

// ---- other ways to a lens

void LensStage::openLens() {
    const QString path = askToOpen(FileKind::lens, "Open lens");
    if (path.isEmpty()) return;
    const auto lens = readAnyLens(path.toStdString());
    if (!lens) {
        session_.sayError(text(lens.error().message));
        return;
    }
    const PlateRef& plate = session_.shot().plate;
    if (lens->width != plate.width || lens->height != plate.height) {
        session_.sayError(
            QString("%1 is for a plate of %2×%3, this one is %4×%5. A lens of another size would bend the "
                    "wrong pixels.")
                .arg(path)
                .arg(lens->width)
                .arg(lens->height)
                .arg(plate.width)
                .arg(plate.height));
        return;
    }
    session_.edit("Open a lens", withLens(session_.shot(), *lens, LensCard::Source::file));
}

void LensStage::askForMaps() {
    LensMaps files;
    files.undistorting = askToOpen(FileKind::maps, "The map that undistorts (1 of 2)").toStdString();
    if (files.undistorting.empty()) return;
    files.redistorting = askToOpen(FileKind::maps, "The map that redistorts (2 of 2)").toStdString();
    if (!files.redistorting.empty()) openMaps(files);
}

void LensStage::openMaps(const LensMaps& files) {
    if (!session_.isReady()) return;
    const Shot shot = session_.shot();
    const auto run = [files, shot](const JobLink&) -> Expected<MapsLens> {
        auto found = readMapsLens(files, shot.plate.width, shot.plate.height, focalForLens_px(shot));
        if (found) found->lens.squeeze = shot.solveSettings.squeeze;
        return found;
    };
    const auto merge = [this, files](MapsLens& found) {
        session_.edit("Take the lens from ST maps", withMapsLens(session_.shot(), found, files));
        QString words = QString("Lens read from maps: places return within %1 px.").arg(found.returns_px, 0, 'f', 4);
        for (const std::string& warning : found.warnings) words += " Note: " + text(warning) + ".";
        session_.say(words);
    };
    session_.jobs.start(Job<MapsLens>{.name = "Reading ST maps", .run = run, .merge = merge});
}

void LensStage::saveLens() {
    const auto& lens = sights_->lens();
    if (!lens) return;
    const QString path = askToSave(FileKind::lens, "Save lens", text(session_.shot().name + ".lens.json"));
    if (path.isEmpty()) return;
    const bool yaml = path.endsWith(".yml") || path.endsWith(".yaml");
    const auto words = yaml ? openCvLens(*lens) : Expected<std::string>(lensJson(*lens));
    const auto written = words.and_then([&](const std::string& held) { return writeFile(path.toStdString(), held); });
    if (written) session_.say("Lens saved: " + path);
    else session_.sayError(text(written.error().message));
}

void LensStage::takeFromSolve() {
    if (!session_.shot().solve) return;
    session_.edit("Take the lens from the solve", withSolvedLens(session_.shot()));
}

void LensStage::measureChart(const QStringList& pictures) {
    if (pictures.isEmpty() || !session_.isReady()) return;
    std::vector<std::filesystem::path> paths;
    for (const QString& path : pictures) paths.emplace_back(path.toStdString());
    const Shot shot = session_.shot();
    const auto run = [paths, shot](const JobLink& link) -> Expected<ChartLens> {
        auto found = findCharts(paths, shot.lens.chart, link.progress);
        if (!found) return tl::unexpected(found.error());
        if (found->width != shot.plate.width || found->height != shot.plate.height)
            return failure(Fault::input,
                           "the chart's pictures are {}x{}, the plate is {}x{}: a lens of another size would bend the "
                           "wrong pixels",
                           found->width, found->height, shot.plate.width, shot.plate.height);
        return lensFromChart(std::move(found->views), shot.lens.chart, found->width, found->height);
    };
    const auto merge = [this](ChartLens& found) {
        session_.edit("Measure the lens from a chart", withChartLens(session_.shot(), found));
        session_.say(
            QString("Lens measured: %1 px at the corners of %2 views.")
                .arg(found.rms_px, 0, 'f', 2)
                .arg(std::count_if(found.views.begin(), found.views.end(), [](const auto& v) { return v.used; })));
    };
    session_.jobs.start(Job<ChartLens>{.name = "Measuring the chart", .run = run, .merge = merge});
}

// ---- pictures

void LensStage::startBending(const QString& name, int frames,
                             const std::function<Expected<BentFrames>(const Progress&)>& bend,
                             const std::filesystem::path& pattern) {
    const auto merge = [this, pattern](BentFrames& bent) {
        session_.say(QString("%1%2 frames: %3")
                         .arg(bent.report.stopped ? "Stopped. " : "")
                         .arg(bent.report.frames)
                         .arg(text(pattern.string())));
    };
    session_.jobs.start(Job<BentFrames>{.name = name,
                                        .frames = frames,
                                        .run = [bend](const JobLink& link) { return bend(link.progress); },
                                        .merge = merge});
}

void LensStage::renderUndistorted(const std::filesystem::path& pattern) {
    const Shot shot = session_.shot();
    const auto glass = glassOf(shot);
    if (!glass || !session_.isReady()) return;
    const BendChoices choices{.overscan = shot.lens.overscan, .filter = shot.lens.filter};
    startBending(
        "Undistorting", shot.plate.range.count(),
        [range = shot.plate.range, glass = *glass, choices, pattern, frames = session_.player.sharedFrames()](
            const Progress& progress) { return undistortPlate(*frames, range, glass, pattern, choices, progress); },
        pattern);
}

void LensStage::redistort(const std::filesystem::path& pictures, const std::filesystem::path& pattern) {
    const auto glass = glassOf(session_.shot());
    if (!glass || !session_.isReady()) return;
    const BendChoices choices{.filter = session_.shot().lens.filter};
    startBending(
        "Redistorting", 0,
        [glass = *glass, choices, pictures, pattern](const Progress& progress) -> Expected<BentFrames> {
            const auto plate = Plate::open(pictures, {.overscan = true}, progress.part(0, 0.05));
            if (!plate) return tl::unexpected(plate.error());
            FrameCache frames(*plate, std::size_t(512) << 20);
            const PlateFacts& facts = frames.facts();
            return redistortPictures(frames, {facts.firstFrame, facts.lastFrame}, glass, pattern, choices,
                                     progress.part(0.05, 1));
        },
        pattern);
}

}  // namespace pinion
