#include "mutations/fullshot.h"

#include "camera/object.h"
#include "matte/sequence.h"

namespace pinion::bench {
namespace {

Track fullTrack() {
    Track t;
    t.id = 7;
    t.name = "edge, \"upper\"";
    t.byHand = t.setAside = t.pickUp = t.locked = t.hidden = true;
    t.motion = MotionModel::perspective;
    t.channel = Channel::green;
    t.preFilter = PreFilter::localContrast;
    t.pattern_px = 33;
    t.search_px = 95;
    t.driftLimit = 0.65;
    t.offset = {3.5, -2.25};
    t.outline = std::vector<Eigen::Vector2d>{{-5, -5}, {6, -4}, {0, 7}};
    t.colour = 0x55AA33;
    t.group = "quay";
    t.referenceFrame = 1003;
    t.startReason = EndReason::leftFrame;
    t.endReason = EndReason::covered;
    t.samples = std::vector<Sample>{{.frame = 1003,
                                     .carried = {1.5F, -0.25F},
                                     .at = {101.25, 64.5},
                                     .score = 0.875,
                                     .tie = true,
                                     .renewed = true,
                                     .bridged = true,
                                     .aside = true,
                                     .lost = EndReason::driftLimit},
                                    {.frame = 1005, .at = {102, 65}}};
    return t;
}

/// Of maps: a field in place of coefficients.
Lens fieldLens() {
    Lens lens{.width = 640, .height = 360, .focal_px = 512.5, .cx = 318.25, .cy = 181.5, .squeeze = 0.5};
    std::vector<Eigen::Vector2d> offsets;
    for (int i = 0; i < 5 * 4; ++i) offsets.emplace_back(0.25 * i, 1 - 0.125 * i);
    lens.field = SharedField(LensField(640, 360, 2, 1, offsets));
    return lens;
}

Solve fullSolve() {
    Solve s;
    s.lens = {640, 360, 512.5, -0.1, 0.02, -0.003, 0.0004, -0.0005, 318.25, 181.5, 0.5};
    s.sensorWidth_mm = 24.9;
    s.motion = CameraMotion::nodal;
    s.reason = "40 of 41 tracks fit";
    s.zoom = true;
    s.k1Slope = 0.015;
    s.readout = {-0.625, true};
    s.readoutDeviation = 0.0125;
    SolvedFrame frame;
    frame.frame = 1003;
    frame.worldFromCamera.linear() << 0, 0, 1, 0, 1, 0, -1, 0, 0;
    frame.worldFromCamera.translation() << 1.5, -2.5, 3.25;
    frame.focal_px = 520.25;
    frame.rms_px = 0.3125;
    frame.tracks = 12;
    frame.deviation << 0.01, 0.02, 0.03;
    frame.focalDeviation_px = 0.75;
    s.frames = std::vector<SolvedFrame>{frame};
    SolvedTrack track;
    track.track = 7;
    track.role = TrackRole::heldOut;
    track.xyz = Eigen::Vector3d(1, 2, -3);
    track.direction = Eigen::Vector3d(0, 0, -1);
    track.rms_px = 0.4375;
    track.frames = 2;
    track.deviation << 0.1, 0.2, 0.3;
    track.goodFrames = {1003, 1005};
    s.tracks = std::vector<SolvedTrack>{track};
    s.rms_px = 0.25;
    s.heldOutRms_px = 0.375;
    s.noise_px = 0.125;
    s.used = 40;
    s.disagreed = 3;
    s.heldOut = 4;
    s.duplicates = 2;
    s.focalDeviation_mm = 0.5;
    s.focalRange_mm = {20.5, 61.25};
    s.k1Deviation = 0.001;
    s.k2Deviation = 0.002;
    s.axisDeviation_px = {0.5, 0.75};
    s.basePair = {1003, 1005};
    s.medianAngleDegrees = 4.5;
    s.inMetres = true;
    s.movers = std::vector<MovingTracks>{{{8, 9, 11}, {1003, 1044}}, {{7}, {1001, 1002}}};
    s.doubt = "20 to 61 mm fit alike";
    return s;
}

Insert fullInsert() {
    Insert i;
    i.id = 9;
    i.name = "lamp, left";
    i.shows = Insert::Shows::test;
    i.clip = 4;
    i.colour = {0.25, 0.75, 0.125};
    i.kind = "balloon";
    i.of = 3;
    i.thrownFrom = std::vector<int>{1004, 1011};
    i.ride = Ride{"tracks", {7}, 1004, MotionKind::position, {"lost"}};
    i.wholeFrame = i.onSurface = true;
    i.carrier = {Eigen::Vector2d(10, 10), {80, 12}, {82, 60}, {11, 61.5}};
    i.placing = {
        {0.25, 0.75}, {0.5, 1.5}, 12.5, {Eigen::Vector2d(0.125, 0), {0, -0.25}, {0.0625, 0.5}, {-0.125, 0.25}}};
    i.shape = {0.125, 0.25, 0.0625, 0.03125, 0.375, 2.5};
    i.key = ColourKey{{0.125F, 0.75F, 0.25F}, 0.25F, 0.0625F, 0.5F};
    i.look = {Blend::screen, 0.75, {{1.5, 0.75, 0.5}, {0.125, 0.25, -0.125}, 1.25, 0.5}, 1.75, {0.5, 7.5}};
    i.shutter = 0.5;
    i.heldOut = std::vector<MatteId>{6};
    i.within = std::vector<MatteId>{6, 2};
    i.time = {1006, 12, 60, ClipTime::After::loop, true};
    i.frames = FrameRange{1004, 1007};
    i.opacityKeys = std::vector<OpacityKey>{{1004, 0.5}, {1006, 0.25}};
    i.turns = std::vector<Matte::Turn>{{1005, false}, {1006, true}};
    i.lost = Insert::Lost::fades;
    i.fadeFrames = 7;
    i.hidden = true;
    return i;
}

}  // namespace

Shot fullShot() {
    Shot s;
    s.name = "harbour 12";
    s.plate = {"/made/up/plate.####.exr",
               640,
               360,
               1.25,
               {24000, 1001},
               {1001, std::vector<double>{0, 0.05, 0.08}},
               {1001, 1010},
               {1003, 1008}};
    s.scatterSettings = {321, 12.5, 0.02, 25, 77, MotionModel::similarity, 0.7, Channel::red, PreFilter::denoise};
    SolveSettings& c = s.solveSettings;
    c.sensorWidth_mm = 24.9;
    c.focal = Knowledge::guessed;
    c.focal_mm = 31.5;
    c.focalSigma_mm = 1.25;
    c.distortion = SolveOptions::Distortion::known;
    c.reading = SolveOptions::Reading::known;
    c.readoutShare = -0.375;
    c.readoutSigma = 0.0625;
    c.readBy = SolveOptions::ReadBy::columns;
    s.lens.source = LensCard::Source::lines;
    s.lens.lens = fieldLens();
    s.lens.deviations.focal_px = 2.5;
    s.lens.deviations.k1 = 0.001;
    s.lens.deviations.k2 = 0.002;
    s.lens.deviations.k3 = 0.003;
    s.lens.deviations.axis_px = {0.5, 0.75};
    s.lens.deviations.border_px = 0.125;
    s.lens.lines = std::vector<LensLine>{{1004, std::vector<Eigen::Vector2d>{{1, 2}, {3.5, 4}, {6, 7.25}},
                                          std::vector<Eigen::Vector2d>{{1, 2}, {2, 3}}}};
    s.lens.snap = false;
    s.lens.terms = LineTerms::k1k2;
    s.lens.axis = LineAxis::free;
    s.lens.chart = {7, 5, 0.03};
    s.lens.views = std::vector<ChartView>{{"a.png", {{1, 2}}, false, 0.75, "blurred", "/plates/a.mov", 1003}};
    s.lens.maps = {"/maps/u.exr", "/maps/r.exr", 0.0625, true};
    s.lens.filter = BendFilter::lanczos;
    s.lens.overscan = {Overscan::Kind::pixels, 40};
    c.axis = SolveOptions::Axis::free;
    c.motion = CameraMotion::travelling;
    c.zoom = false;
    c.squeeze = 0.5;
    c.basePair = {1003, 1007};
    c.sceneOf = std::vector<TrackId>{9, 7};
    c.distances = std::vector<KnownDistance>{{7, 9, 3.5, 0.05}};
    c.places = std::vector<KnownPlace>{{7, {1, 2, 3}, 0.25}};
    s.mattes = std::vector<Matte>{
        {"crane",
         Matte::Mode::include,
         {{1003, {{0, 0}, {9, 0}, {9, 9}}, {{-1, 0.5}, {1, 2}, {3, 4}}, {{1, -0.5}, {-1, -2}, {-3, -4}}, {0, 2, 1}}},
         Matte::Op::subtract,
         true,
         2.5,
         -1.25,
         Matte::Between::smooth,
         Ride{"plane", {3}, 1007, MotionKind::perspective, {"lost"}},
         {{1005, false}, {1008, true}},
         0x7FB7BE,
         0.4,
         true,
         true,
         matteSequence("/made/matte.####.exr"),
         6}};
    s.nextMatte = 8;
    s.tracks = std::vector<Track>{fullTrack()};
    s.nextTrack = 19;
    PlanarTrack plane;
    plane.id = 3;
    plane.name = "notice";
    plane.outlines = std::vector<Polygon>{{{10, 10}, {90, 12}, {88, 70.5}, {9, 66}}};
    plane.takenOut = std::vector<Polygon>{{{20, 20}, {30, 20}, {25, 31}}};
    plane.referenceFrame = 1004;
    plane.motion = MotionModel::affine;
    plane.sides = Quad{Eigen::Vector2d(5, 5), {95, 6}, {94, 80}, {6, 79}};
    Lens glass = pinholeLens(1920, 1080, 1800);
    glass.k1 = -0.05;
    plane.lens = std::make_shared<const Lens>(glass);
    plane.leastSeen = 0.35;
    plane.fromScene = plane.locked = plane.hidden = true;
    plane.startReason = PlaneEnd::edgeOn;
    plane.endReason = PlaneEnd::leftFrame;
    PlaneSample sample{
        .frame = 1004, .seen = 0.5F, .fit = 0.875F, .deviation_px = 0.25F, .renewed = true, .anew = true};
    sample.pose = {Eigen::Vector3d(1, -1, -1).asDiagonal(), {0.5, 0.25, 2}};
    plane.samples = std::vector<PlaneSample>{sample};
    plane.ties = std::vector<PlaneTie>{{1004, {Eigen::Vector2d(10, 10), {80, 12}, {82, 60}, {11, 61.5}}}};
    s.planes = std::vector<PlanarTrack>{plane};
    s.nextPlane = 5;
    s.solve = std::make_shared<const Solve>(fullSolve());
    s.solvedKey = 0xFEDCBA9876543210ULL;
    ObjectSolve moving;
    ObjectFrame at;
    at.frame = 1004;
    at.worldFromObject.linear() << 0, -1, 0, 1, 0, 0, 0, 0, 1;
    at.worldFromObject.translation() << 0.5, -1.5, 2.25;
    at.rms_px = 0.1875;
    at.tracks = 9;
    moving.frames = {at};
    moving.points = {{7, {0.5, 0.25, -0.125}, 0.0625}};
    moving.scale = ObjectScale::ground;
    moving.scaleDeviation = 0.0025;
    moving.rms_px = 0.21875;
    moving.heldOutRms_px = 0.28125;
    moving.doubt = "few tracks";
    s.scene.standIns = std::vector<StandIn>{
        {.id = 3,
         .name = "lamp post",
         .kind = StandInKind::mesh,
         .file = "/film/ternholm/post.obj",
         .stance = {{1.25, -0.5, 3.75}, {2.5, 30.25, -4.5}, {0.125, 2.75, 0.375}},
         .keys = std::vector<StanceKey>{{1003, {{1, 2, 3}, {4, 5, 6}, {7, 8, 9}}},
                                        {1009, {{1.5, 2.5, 3.5}, {4.5, 5.5, 6.5}, {7.5, 8.5, 9.5}}}},
         .colour = {0.25, 0.375, 0.625},
         .opacity = 0.75,
         .casts = false,
         .catchesOnly = true,
         .hides = true,
         .hidden = true,
         .carrier = 4,
         .group = 2,
         .frames = FrameRange{1003, 1008}},
        {.id = 4,
         .name = "pilot",
         .kind = StandInKind::card,
         .file = "/film/ternholm/pilot.####.png",
         .card = {{1005, 3, 9, ClipTime::After::loop, true},
                  ColourKey{{0.125F, 0.75F, 0.25F}, 0.1875F, 0.0625F, 0.5F},
                  true},
         .stance = {{2.25, 0.5, 1.75}, {0, 12.5, 0}, {0.875, 1.75, 1}}},
        {.id = 5, .name = "sign", .kind = StandInKind::text, .words = "Ternholm 3", .group = 2},
        {.id = 6,
         .name = "lamp's foot",
         .kind = StandInKind::locator,
         .stance = {{0.25, 0, 0.5}, {0, 0, 0}, {0.2, 0.2, 0.2}}}};
    s.scene.sun = {{-0.25, 0.875, 0.3125}, 2.25, 0.8125, 0.625};
    s.scene.ground = 0.125;
    s.scene.groundCatches = false;
    s.nextStandIn = 9;
    s.objects = std::vector<ShotObject>{{4, "ferry", std::vector<TrackId>{7, 8}, std::vector<TrackId>{7},
                                         std::make_shared<const ObjectSolve>(moving), 0x1122334455667788ULL}};
    s.nextObject = 6;
    s.solveId = 3;
    s.solvedWith.focal = Knowledge::guessed;
    s.solvedWith.focal_mm = 32.5;
    s.solvedWith.basePair = {1003, 1004};
    Solve earlier = fullSolve();
    earlier.rms_px = 0.75;
    s.keptSolves = std::vector<KeptSolve>{{2, std::make_shared<const Solve>(earlier), 0x123456789ULL, s.solvedWith}};
    s.nextSolve = 5;
    s.world.ground = std::vector<TrackId>{7};
    s.world.origin = 7;
    s.world.measures = std::vector<World::Measure>{{7, 9, 2.5}, {9, 8, 1.25}};
    s.world.height_m = 1.625;
    s.world.facing = World::Facing{7, 8};
    s.world.wall = std::vector<TrackId>{7, 8, 9};
    s.world.turn_deg = 12.5;
    s.world.flipped = true;
    s.locators = std::vector<Locator>{{2, "sign", Ride{"tracks", {7}, 1004, MotionKind::position, {"lost"}}}};
    s.nextLocator = 4;
    SteadySettings& h = s.steady;
    h.steady = h.cornerPin = h.squareUp = h.shake = true;
    h.straightRows = false;
    h.on = Ride{"plane", {3}, 1005, MotionKind::perspective, {"lost"}};
    h.tracks = std::vector<TrackId>{7};
    h.model = PictureModel::perspective;
    h.referenceFrame = 1004;
    h.options = {SteadyOptions::Mode::ease, 0.5,  0.25,        0.75, SteadyOptions::Smoother::l1, 9.5, 0.02,
                 SteadyOptions::Fit::crop,  1.25, {0.25, 0.75}};
    h.profile = std::make_shared<const ShakeProfile>(ShakeProfile{"hand", {25, 1}, 0.5, {{0.01, 0.02, 1.5, 1.01}}});
    h.lending = {0.5, 0.25, 2, SteadyOptions::Fit::none};
    h.filter = ResampleFilter::lanczos;
    h.edges = EdgeMode::mirrored;
    h.renderPath = "held.####.exr";
    s.clips = std::vector<Clip>{
        {4, "lamp", "/made/up/lamp.####.tif", 320, 240, 2, {30000, 1001}, {11, 70}, true, true, AlphaKind::straight}};
    s.nextClip = 6;
    Insert usual = fullInsert();
    usual.id = 10;
    usual.kind = "art";
    usual.ride = Ride{"tracks", {7}, 1004};
    s.inserts = std::vector<Insert>{fullInsert(), usual};
    s.nextInsert = 12;
    s.insertsPath = "lamp.####.exr";
    s.insertsAlone = true;
    s.sceneWriting = {"x/scene.####.exr", SceneManner::undistorted, {ScenePass::normal, ScenePass::depth}, 0.375};
    s.deliverables = std::vector<Deliverable>{{"sign pin",
                                               DeliverableKind::cornerPin,
                                               DeliverableFormat::csv,
                                               "sub/sign.csv",
                                               UpAxis::z,
                                               2,
                                               {Origin::bottomLeft, true, false, false, false},
                                               true,
                                               0x123456789ABCDEFULL}};
    s.deliveryFolder = "/made/up/delivery";
    return s;
}

}  // namespace pinion::bench
