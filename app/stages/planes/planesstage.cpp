#include "stages/planes/planesstage.h"

#include "canvas/canvas.h"
#include "comp/warp.h"
#include "exchange/deliverables.h"
#include "jobs/planing.h"
#include "jobs/squaring.h"
#include "shot/carriers/carriers.h"
#include "proof/proof.h"
#include "sheet/threadsheet.h"
#include "shot/edits/locatoredits.h"
#include "shot/edits/matteedits.h"
#include "shot/edits/planeedits.h"
#include "shot/stages/planesstage.h"
#include "stages/copying.h"
#include "stages/planes/planescard.h"
#include "stages/planes/planesoverlay.h"
#include "stages/planes/planestrip.h"
#include "stages/planes/planetools.h"
#include "stages/planes/squaredsight.h"
#include "stages/puttingback.h"
#include "stages/reasons.h"
#include "widgets/commands.h"
#include "widgets/toolbar.h"

#include <algorithm>

namespace pinion {
namespace {

using K = QKeySequence;
using Eigen::Vector2d;

/// Goes to where a run ended, and says why it ended before the range does.
void sayHowItWent(Session& session, const PlanarResult& result, Direction direction, int steps, int from) {
    const PlanarTrack& plane = result.planes.front();
    const bool back = direction == Direction::backward;
    if (steps == 1)
        session.player.goTo(back ? std::max(from - 1, plane.firstFrame()) : std::min(from + 1, plane.lastFrame()));
    else if (direction != Direction::both) session.player.goTo(back ? plane.firstFrame() : plane.lastFrame());
    else session.player.goTo(from);
    if (steps == 1 && (back ? plane.startReason : plane.endReason) == PlaneEnd::none) return;
    session.say(text(plane.name) + ": " + text(wordsOf(plane, session.shot().plate.range)) + " · " +
                (plane.sides ? "cylinder" : text(std::string(toString(result.motions.front())))) +
                (result.stopped ? " · stopped" : ""));
}

}  // namespace

PlanesStage::PlanesStage(Session& session) : Stage(session), hand(session) {
    connect(&hand, &PlaneHand::changed, this, [this] {
        if (overlay_ && overlay_->shown) refreshProof();
    });
}

PlanesStage::~PlanesStage() = default;

StageReport PlanesStage::report() const { return planesReport(session_.shot()); }

QWidget* PlanesStage::makeCard() { return makePlanesCard(session_, *this); }

void PlanesStage::enter() {
    if (overlay_) overlay_->shown = true;
    if (strip_) strip_->shown = true;
    refreshSheet();
}

void PlanesStage::leave() {
    if (overlay_) overlay_->shown = false;
    if (strip_) strip_->shown = false;
    refreshSheet();
}

QString PlanesStage::whyNoPlane() const {
    const QString ready = whyNotReady(session_);
    return !ready.isEmpty() ? ready : hand.held() ? QString() : QString("there is no plane: draw an outline first");
}

void PlanesStage::furnish(const Desk& desk) {
    auto strip = std::make_unique<PlaneStrip>(session_, hand);
    strip_ = strip.get();
    desk.sheet.addStrip(std::move(strip));
    addTools(desk);
    addCommands(desk);
}

void PlanesStage::addTools(const Desk& desk) {
    Canvas& canvas = desk.canvas;
    auto overlay = std::make_unique<PlanesOverlay>(session_, hand);
    overlay_ = overlay.get();
    overlay_->looked = desk.shown;
    canvas.addOverlay(std::move(overlay));
    using Kind = PlaneOutlineTool::Kind;
    for (const Kind kind : {Kind::plane, Kind::more, Kind::takenOut})
        canvas.addTool(std::make_unique<PlaneOutlineTool>(session_, hand, canvas, kind));
    canvas.addTool(std::make_unique<SurfaceTool>(session_, hand, canvas));
    canvas.addTool(std::make_unique<SidesTool>(session_, hand, canvas));
    canvas.addSight(std::make_unique<SquaredSight>(session_, hand, false));
    canvas.addSight(std::make_unique<SquaredSight>(session_, hand, true));
    connect(&hand, &PlaneHand::changed, &canvas, [&canvas] {
        if (canvas.sight() == "surface" || canvas.sight() == "surface difference") canvas.refreshView();
        canvas.update();
    });
    connect(&hand, &PlaneHand::changed, &desk.sheet, [sheet = &desk.sheet] { sheet->refreshStrips(); });
    connect(&canvas, &Canvas::looked, this, &PlanesStage::viewChanged);
    connect(&hand, &PlaneHand::changed, &desk.commands, [this, commands = &desk.commands, had = false]() mutable {
        if (had == (hand.held() != nullptr)) return;
        had = !had;
        commands->refresh();
    });
    const auto take = [this](const QString& tool) { return [this, tool] { takeTool(tool); }; };
    desk.tools.addTool("plane", "Plane", "square-dashed",
                       "What a plane is tracked by: click round it, or drag a rectangle (P)", take("plane"));
    desk.tools.addTool("plane more", "More", "square-plus", "Another outline of the same plane (Shift+G)",
                       take("plane more"));
    desk.tools.addTool("plane take out", "Take out", "square-minus",
                       "A part that does not count: a reflection, what passes in front (Shift+W)",
                       take("plane take out"));
    desk.tools.addTool("surface", "Surface", "frame",
                       "The four corners that are handed on: place them, drag them, on any frame (Shift+A)",
                       take("surface"));
    desk.tools.addTool("cylinder sides", "Sides", "cylinder",
                       "The two contours of a round body: the plane becomes a cylinder with its turn (Ctrl+Shift+Y)",
                       take("cylinder sides"));
}

void PlanesStage::takeTool(const QString& tool) {
    if (!session_.hasPlate()) {
        session_.say("No plate is open.");
        return;
    }
    openOwnCard();
    // On the plate, with what was inserted too, and on the surface squared up.
    const Sight* sight = desk().canvas.shownSight();
    if (shown() == "3d" || (sight && !sight->isOverPlate() && shown() != "surface")) show("plate");
    takeInHand(tool);
}

void PlanesStage::addCommands(const Desk& desk) {
    Commands& c = desk.commands;
    const auto plate = [this] { return whyNoPlate(session_); };
    const auto plane = [this] { return whyNoPlane(); };
    const auto surface = [this] {
        const QString none = whyNoPlane();
        return !none.isEmpty()               ? none
               : hand.held()->ties.isEmpty() ? QString("the plane has no surface yet")
                                             : QString();
    };
    const auto tool = [&](const QString& name, const QKeySequence& key, const QString& which) {
        c.add(
            "Plane", name, {key}, [this, which] { takeTool(which); }, plate);
    };
    tool("Draw a plane's outline", K("P"), "plane");
    tool("Add an outline to the plane", K("Shift+G"), "plane more");
    tool("Take a part out of the plane", K("Shift+W"), "plane take out");
    tool("Place the surface", K("Shift+A"), "surface");
    tool("Draw a cylinder's two sides", K("Ctrl+Shift+Y"), "cylinder sides");
    c.add(
        "Plane", "Flat again, not a cylinder", {}, [this] { makeFlat(); },
        [this] {
            const QString none = whyNoPlane();
            return !none.isEmpty() ? none : hand.held()->sides ? QString() : QString("it is flat");
        });
    c.add(
        "Plane", "Surface from the outline", {K("Ctrl+Shift+G")}, [this] { surfaceFromOutline(); }, plane);
    const auto run = [&](const QString& name, const QKeySequence& key, Direction direction, int steps, bool all) {
        c.add(
            "Plane", name, {key}, [this, direction, steps, all] { track(direction, steps, all); }, plane);
    };
    run("Track the plane both ways", K("Y"), Direction::both, 0, false);
    run("Track the plane forward", K("Alt+Y"), Direction::forward, 0, false);
    run("Track the plane backward", K("Alt+Shift+Y"), Direction::backward, 0, false);
    run("Track the plane one frame forward", K("Ctrl+Alt+."), Direction::forward, 1, false);
    run("Track the plane one frame backward", K("Ctrl+Alt+,"), Direction::backward, 1, false);
    run("Track all planes both ways", K("Shift+Y"), Direction::both, 0, true);
    c.add(
        "Plane", "Track forward anew from this correction", {}, [this] { trackAnew(Direction::forward); }, surface);
    c.add(
        "Plane", "Track backward anew from this correction", {}, [this] { trackAnew(Direction::backward); }, surface);
    c.add(
        "Plane", "Grid on the surface", {K("Shift+N")}, [this] { hand.setGrid(!hand.grid()); }, surface);
    c.add(
        "Plane", "Test picture on the surface", {K("M")}, [this] { hand.setTestPicture(!hand.testPicture()); },
        surface);
    c.add(
        "Plane", "Hand on its corner pin", {}, [this] { handOn(); }, plane);
    c.add(
        "Plane", "Copy its corner pin", {}, [this] { copyCornerPin(); }, surface);
    c.add(
        "Plane", "Outline as a matte that rides on it", {}, [this] { addMatte(); }, plane);
    c.add(
        "Plane", "Hold the picture still on it", {}, [this] { steadyOn(); }, plane);
    c.add(
        "Plane", "Corners as point tracks", {}, [this] { cornersAsTracks(); }, surface);
    c.add(
        "Plane", "By the solved scene, not by its texture", {}, [this] { takeFromScene(); },
        [this] {
            const QString none = whyNoPlane();
            return !none.isEmpty() ? none : session_.shot().solve ? QString() : QString("the camera is not solved");
        });
    c.add(
        "Plane", "Remove the plane", {},
        [this] {
            const PlanarTrack* held = hand.held();
            session_.edit("Remove " + text(held->name), withPlaneRemoved(session_.shot(), held->id));
        },
        plane);
    c.add(
        "View", "Surface squared up", {K("A")}, [desk] { desk.show(desk.shown() == "surface" ? "plate" : "surface"); },
        surface);
    c.add(
        "View", "Surface against its reference", {K("Ctrl+Shift+E")},
        [desk] { desk.show(desk.shown() == "surface difference" ? "plate" : "surface difference"); }, surface);
}

void PlanesStage::makeFlat() {
    if (!hand.mayEdit()) return;
    const PlanarTrack& plane = *hand.held();
    if (const auto flat = withPlaneSides(session_.shot(), plane.id, std::nullopt); flat && plane.sides)
        session_.edit(text(plane.name) + " is flat", *flat);
}

void PlanesStage::takeFromScene() {
    if (!hand.mayEdit()) return;
    const QString name = text(hand.held()->name);
    auto shot = withPlaneFromScene(session_.shot(), *hand.plane());
    if (!shot) {
        session_.sayError(text(shot.error().message) + ".");
        return;
    }
    session_.edit(name + " by the solved scene", *std::move(shot));
    session_.say(name + ": " + text(wordsOf(*hand.held(), session_.shot().plate.range)) + ".");
}

void PlanesStage::cornersAsTracks() {
    if (!hand.mayEdit()) return;
    auto shot = withCornersAsTracks(session_.shot(), *hand.plane());
    if (!shot) {
        session_.sayError(text(shot.error().message) + ".");
        return;
    }
    session_.edit("Corners of " + text(hand.held()->name) + " as tracks", *std::move(shot));
    session_.say(
        "Four tracks, locked: the corners go into the camera solve with the others. Made again after a "
        "correction they are replaced.");
}

void PlanesStage::look(const QString& view) { show(view); }

QString PlanesStage::looked() const { return shown(); }

// ---- tracking

void PlanesStage::startTracking(std::vector<PlaneId> planes, Direction direction, int steps, bool anew) {
    session_.player.setPlaying(false);
    const Shot shot = session_.shot();
    const int from = session_.player.frame();
    const auto run = [this, shot, planes, from, direction, steps, anew,
                      frames = session_.player.sharedFrames()](const JobLink& link) {
        const auto live = [&](int frame, const std::vector<const PlaneSample*>& samples) {
            std::map<PlaneId, PlaneSample> now;
            for (std::size_t i = 0; i < samples.size() && i < planes.size(); ++i)
                if (samples[i]) now[planes[i]] = *samples[i];
            link.tell([this, frame, now] {
                session_.player.goTo(frame);
                hand.setLive(frame, now);
            });
        };
        return runPlanes(shot, *frames, planes, from, direction, steps, anew, link.progress, live);
    };
    const auto merge = [this, direction, steps, from, anew](PlanarResult& result) {
        session_.edit(anew                        ? QString("Track anew from %1").arg(from)
                      : result.planes.size() == 1 ? "Track " + text(result.planes.front().name)
                                                  : QString("Track %1 planes").arg(result.planes.size()),
                      withPlanesTracked(session_.shot(), result.planes));
        sayHowItWent(session_, result, direction, steps, from);
    };
    session_.jobs.start(Job<PlanarResult>{
        .name = "Tracking", .frames = shot.plate.range.count(), .run = run, .merge = merge, .ended = [this] {
            hand.clearLive();
        }});
}

void PlanesStage::track(Direction direction, int steps, bool all) {
    if (!session_.isReady()) return;
    std::vector<PlaneId> planes;
    // In the order of the list, as the job gives them back.
    for (const PlanarTrack& plane : session_.shot().planes)
        if (all ? !plane.locked : hand.plane() == plane.id) planes.push_back(plane.id);
    if (planes.empty()) {
        session_.say("There is no plane to track. Draw an outline on the surface (P).");
        return;
    }
    if (const PlanarTrack* held = hand.held(); !all && held->locked) {
        session_.say(text(held->name) + " is locked. Unlock it to track it.");
        return;
    }
    startTracking(std::move(planes), direction, steps, false);
}

void PlanesStage::trackAnew(Direction direction) {
    if (!hand.mayEdit()) return;
    const PlanarTrack& plane = *hand.held();
    const int frame = session_.player.frame();
    const bool tied =
        std::any_of(plane.ties.begin(), plane.ties.end(), [&](const PlaneTie& tie) { return tie.frame == frame; });
    if (!tied || plane.ties.size() < 2) {
        session_.say("The surface was not corrected on this frame. Drag a corner to where it belongs first.");
        return;
    }
    startTracking({plane.id}, direction, 0, true);
}

void PlanesStage::surfaceFromOutline() {
    if (!hand.mayEdit()) return;
    const PlanarTrack& plane = *hand.held();
    const auto pose = hand.poseNow(plane);
    if (!pose) {
        session_.say(text(plane.name) + " is not tracked on this frame. Go to where it is.");
        return;
    }
    std::vector<Vector2d> corners = boxOf(plane.region()).corners();
    if (plane.outlines.size() == 1 && plane.outlines[0].size() == 4) corners = plane.outlines[0];
    for (Vector2d& corner : corners) corner = placedBy(plane, *pose, corner);
    const auto ordered = inOrder({corners[0], corners[1], corners[2], corners[3]});
    if (!ordered) session_.sayError(text(ordered.error().message) + ". Place the four corners by hand.");
    else hand.place(*ordered, "Surface of " + text(plane.name) + " from its outline");
}

// ---- what hangs on a plane

void PlanesStage::handOn() {
    if (!hand.mayEdit()) return;
    const PlanarTrack& plane = *hand.held();
    const int reference = plane.ties.isEmpty() ? plane.referenceFrame : plane.ties.front().frame;
    session_.edit("Hand on " + text(plane.name), withPlaneHandedOn(session_.shot(), plane.id, reference));
    desk().ask(Errand::handOn);
    session_.say(plane.ties.isEmpty()
                     ? "Its transforms are listed: it has no surface yet, whose corners could be pinned."
                     : "Its corner pin is listed, as JSON and as a table.");
}

void PlanesStage::copyCornerPin() {
    const PlanarTrack* plane = hand.held();
    if (!plane || plane->ties.isEmpty()) {
        session_.say("The plane has no surface yet: place its four corners.");
        return;
    }
    const Shot with = withPlaneHandedOn(session_.shot(), plane->id, plane->ties.front().frame);
    startCopy(session_, with, with.deliverables.back());
}

void PlanesStage::addMatte() {
    if (!hand.mayEdit()) return;
    const PlanarTrack& plane = *hand.held();
    Shot shot = session_.shot();
    const auto add = [&](const Polygon& outline, Matte::Op op) {
        Matte matte;
        matte.name = plane.name;
        matte.op = op;
        matte.keys = {{plane.referenceFrame, outline}};
        matte.ride = rideOnPlane(plane.id, plane.referenceFrame);
        shot = withMatteAdded(shot, std::move(matte));
    };
    for (const Polygon& outline : plane.outlines) add(outline, Matte::Op::add);
    for (const Polygon& outline : plane.takenOut) add(outline, Matte::Op::subtract);
    session_.edit("Matte of " + text(plane.name), shot);
    desk().ask(Errand::showShapes);
}

void PlanesStage::steadyOn() {
    if (!hand.mayEdit()) return;
    const PlanarTrack& plane = *hand.held();
    const int frame = surfacePoseOn(plane, session_.player.frame()) ? session_.player.frame() : plane.referenceFrame;
    Shot shot = session_.shot();
    shot.steady.steady = true;
    shot.steady.on = rideOnPlane(plane.id);
    shot.steady.referenceFrame = frame;
    session_.edit("Steady on " + text(plane.name), shot);
    desk().ask(Errand::steady);
}

void PlanesStage::renderSquared(const std::string& pattern, int width, int height) {
    if (!session_.isReady() || !hand.held()) return;
    const auto run = [carrier = carrierOf(session_.shot(), rideOnPlane(*hand.plane())), pattern, width, height,
                      frames = session_.player.sharedFrames()](const JobLink& link) {
        return runSquared(*carrier, *frames, pattern, width, height, link.progress);
    };
    const auto merge = [this, pattern](RenderReport& report) {
        session_.say(QString("%1%2 frames of the surface: %3")
                         .arg(report.stopped ? "Stopped. " : "")
                         .arg(report.frames)
                         .arg(text(pattern)));
    };
    session_.jobs.start(Job<RenderReport>{
        .name = "Squaring up", .frames = session_.shot().plate.range.count(), .run = run, .merge = merge});
}

void PlanesStage::putBackSurface(const std::filesystem::path& changed) {
    if (!hand.held()) return;
    const auto run = [carrier = carrierOf(session_.shot(), rideOnPlane(*hand.plane())),
                      frames = session_.player.sharedFrames()](FrameCache& made, const std::filesystem::path& pattern,
                                                               const JobLink& link) {
        return runPutBackSurface(*carrier, *frames, made, pattern, link.progress);
    };
    startPutBack(session_, changed, session_.shot().name + "." + hand.held()->name + ".back", run);
}

// ---- the proof

void PlanesStage::refreshSheet() {
    redraw();
    if (!isFurnished()) return;
    if (overlay_->shown) refreshProof();
    else desk().proof.setSubject(nullptr);
}

void PlanesStage::refreshProof() {
    if (!isFurnished()) return;
    const PlanarTrack* plane = hand.held();
    if (!plane || plane->samples.isEmpty()) {
        desk().proof.setSubject(nullptr);
        return;
    }
    auto subject = std::make_shared<ProofSubject>();
    subject->name = text(plane->name);
    Fingerprint print;
    addPlane(print, *plane);
    print.add(std::uint64_t(plane->id));
    subject->version = print.value();
    subject->referenceFrame = plane->referenceFrame;
    // Without a surface what it is tracked by, about as it lies on the reference frame.
    PlanarTrack proved = *plane;
    if (proved.ties.isEmpty()) {
        const auto box = boxOf(proved.region()).corners();
        proved.ties = List<PlaneTie>({{proved.referenceFrame, {box[0], box[1], box[2], box[3]}}});
    }
    const auto size = squaredSize(proved);
    subject->widthOverHeight = size ? double(size->width) / size->height : 1.0;
    const auto& samples = proved.samples;
    subject->frames.push_back(proved.referenceFrame);
    for (const PlaneTie& tie : plane->ties) subject->frames.push_back(tie.frame);
    const auto worst = std::min_element(samples.begin(), samples.end(),
                                        [](const PlaneSample& a, const PlaneSample& b) { return a.fit < b.fit; });
    subject->frames.push_back(worst->frame);
    for (std::size_t i = 0; i < 9; ++i) subject->frames.push_back(samples[i * (samples.size() - 1) / 8].frame);
    const auto kept = std::make_shared<const PlanarTrack>(proved);
    subject->isThere = [kept](int frame) { return surfaceAt(*kept, frame).has_value(); };
    subject->badness = [kept](int frame) {
        const PlaneSample* sample = sampleAt(*kept, frame);
        return sample ? std::clamp(double(1 - sample->fit) / (2 * (1 - double(kGoodFit))), 0.0, 1.0) : 0.0;
    };
    subject->words = [kept, tied = plane->ties](int frame) {
        for (const PlaneTie& tie : tied)
            if (tie.frame == frame) return QString("tie");
        const PlaneSample* sample = sampleAt(*kept, frame);
        return sample ? QString::number(double(sample->fit), 'f', 3) : QString();
    };
    subject->cut = [kept](const Picture& picture, int frame, const QSize& wanted, const ViewTransform& view) {
        if (const auto sheet = SurfaceSheet::of(*kept, frame); sheet && !sheet->isFlat()) {
            const LookUp table = unrolled(*sheet, wanted.width(), wanted.height());
            const auto cut = DisplayBend(table, picture.width, picture.height).bent(displayPixels(picture, view));
            return QImage(reinterpret_cast<const uchar*>(cut.get()), wanted.width(), wanted.height(),
                          wanted.width() * 4, QImage::Format_RGB32)
                .copy();
        }
        const auto plate = plateFromSurface(*kept, frame);
        if (!plate) return QImage();
        Eigen::Matrix3d unit = Eigen::Matrix3d::Identity();
        unit(0, 0) = 1.0 / wanted.width();
        unit(1, 1) = 1.0 / wanted.height();
        const Picture upright =
            warped(picture, *plate * unit, ResampleFilter::bilinear, EdgeMode::empty, wanted.width(), wanted.height());
        const auto pixels = displayPixels(upright, view);
        return QImage(reinterpret_cast<const uchar*>(pixels.data()), wanted.width(), wanted.height(),
                      wanted.width() * 4, QImage::Format_RGB32)
            .copy();
    };
    desk().proof.setSubject(std::move(subject));
}

}  // namespace pinion
