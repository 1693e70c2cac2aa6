// A shot with every member set comes back from its file as the same value. Members are taken apart by structured
// bindings: one that is added to a structure does not compile here before it is set and compared.

#include "matte/sequence.h"
#include "scratch.h"
#include "shot/file/shotfile.h"

#include <catch2/catch.hpp>
#include <sstream>

// In the namespace of the structures, where templates look for what their members need.
namespace pinion {

using Strings = std::vector<std::string>;

template <class T>
    requires std::is_arithmetic_v<T> std::string text(T value) { return fmt::format("{}", value); }
template <class T>
    requires std::is_enum_v<T> std::string text(T value) { return fmt::format("#{}", int(value)); }
std::string text(const std::string& value) { return '"' + value + '"'; }
static std::string text(const std::filesystem::path& value) { return value.string(); }
template <class Derived>
std::string text(const Eigen::MatrixBase<Derived>& value) {
    std::ostringstream stream;
    stream << value.format(Eigen::IOFormat(12, 0, ",", ";"));
    return stream.str();
}
static std::string text(const Quad& quad) {
    std::string joined;
    for (const Eigen::Vector2d& corner : quad) joined += text(corner) + " ";
    return joined;
}
template <class Number>
std::string text(const std::array<Number, 3>& values) {
    return text(values[0]) + "," + text(values[1]) + "," + text(values[2]);
}
static std::string text(const Eigen::Isometry3d& value) { return text(value.matrix()); }
template <class A, class B>
std::string text(const std::pair<A, B>& value) {
    return text(value.first) + ":" + text(value.second);
}
template <class T>
std::string text(const std::vector<T>& values);
template <class T>
std::string text(const List<T>& values);
template <class T>
std::string text(const std::optional<T>& value);
template <class T>
std::string text(const std::shared_ptr<const T>& value);
template <class T>
    requires requires(const T& value) { members(value); }
std::string text(const T& value);

template <class... Values>
Strings all(const Values&... values) {
    return {text(values)...};
}

// ---- every structure of a shot, taken apart

static Strings members(const FrameRate& x) {
    const auto& [numerator, denominator] = x;
    return all(numerator, denominator);
}
static Strings members(const FrameRange& x) {
    const auto& [first, last] = x;
    return all(first, last);
}
static Strings members(const FrameTimes& x) {
    const auto& [first, seconds] = x;
    return all(first, seconds);
}
static Strings members(const PlateRef& x) {
    const auto& [path, width, height, aspect, fps, times, frames, range] = x;
    return all(path, width, height, aspect, fps, times, frames, range);
}
static Strings members(const ScatterSettings& x) {
    const auto& [features, distance, threshold, pattern, search, motion, drift, channel, filter] = x;
    return all(features, distance, threshold, pattern, search, motion, drift, channel, filter);
}
static std::string text(const SharedField& value) {
    return value ? text(std::pair(value->columns(), value->rows())) + text(value->coefficients()) : "none";
}
static Strings members(const Lens& x) {
    const auto& [width, height, focal, k1, k2, k3, p1, p2, cx, cy, squeeze, field] = x;
    return all(width, height, focal, k1, k2, k3, p1, p2, cx, cy, squeeze, field);
}
static Strings members(const KnownDistance& x) {
    const auto& [a, b, metres, trust] = x;
    return all(a, b, metres, trust);
}
static Strings members(const KnownPlace& x) {
    const auto& [track, metres, trust] = x;
    return all(track, metres, trust);
}
static Strings members(const LensLine& x) {
    const auto& [frame, clicks, edge] = x;
    return all(frame, clicks, edge);
}
static Strings members(const Chart& x) {
    const auto& [columns, rows, square] = x;
    return all(columns, rows, square);
}
static Strings members(const ChartView& x) {
    const auto& [name, corners, used, rms, trouble, path, frame] = x;
    return all(name, corners, used, rms, trouble, path, frame);
}
static Strings members(const LensMaps& x) {
    const auto& [undistorting, redistorting, returns, half] = x;
    return all(undistorting, redistorting, returns, half);
}
static Strings members(const Overscan& x) {
    const auto& [kind, pixels] = x;
    return all(kind, pixels);
}
static Strings members(const LensDeviations& x) {
    const auto& [focal, k1, k2, k3, axis, border] = x;
    return all(focal, k1, k2, k3, axis, border);
}
static Strings members(const LensCard& x) {
    const auto& [source, lens, deviations, lines, snap, terms, axis, chart, views, maps, filter, overscan] = x;
    return all(source, lens, deviations, lines, snap, terms, axis, chart, views, maps, filter, overscan);
}
static Strings members(const SolveSettings& x) {
    const auto& [sensor, focal, mm, trust, distortion, axis, motion, zoom, squeeze, base, distances, places] = x;
    return all(sensor, focal, mm, trust, distortion, axis, motion, zoom, squeeze, base, distances, places);
}
static Strings members(const Matte::Key& x) {
    const auto& [frame, polygon, in, out, feather] = x;
    return all(frame, polygon, in, out, feather);
}
static Strings members(const Matte::Ride& x) {
    const auto& [tracks, frame, on, locator, plane] = x;
    return all(tracks, frame, on, locator, plane);
}
static Strings members(const Matte::Turn& x) {
    const auto& [frame, there] = x;
    return all(frame, there);
}
static Strings members(const Matte& x) {
    const auto& [name, mode, keys, op, invert, feather, grow, between, ride, turns, colour, opacity, hidden, locked,
                 pictures] = x;
    return all(name, mode, keys, op, invert, feather, grow, between, ride, turns, colour, opacity, hidden, locked,
               pictures ? pictures->path() : std::string());
}
static Strings members(const Sample& x) {
    const auto& [frame, carried, at, score, tie, renewed, bridged, aside, lost] = x;
    return all(frame, carried, at, score, tie, renewed, bridged, aside, lost);
}
static Strings members(const Track& x) {
    const auto& [id, name, byHand, setAside, motion, channel, filter, pattern, search, drift, pickUp, offset, outline,
                 colour, group, locked, hidden, reference, start, end, samples] = x;
    return all(id, name, byHand, setAside, motion, channel, filter, pattern, search, drift, pickUp, offset, outline,
               colour, group, locked, hidden, reference, start, end, samples);
}
static Strings members(const SurfacePose& x) {
    const auto& [matrix, shift] = x;
    return all(matrix, shift);
}
static Strings members(const PlaneSample& x) {
    const auto& [frame, pose, seen, fit, deviation, renewed, anew] = x;
    return all(frame, pose, seen, fit, deviation, renewed, anew);
}
static Strings members(const PlaneTie& x) {
    const auto& [frame, corners] = x;
    return all(frame, corners);
}
static Strings members(const PlanarTrack& x) {
    const auto& [id, name, outlines, takenOut, reference, sides, motion, lens, least, scene, locked, hidden, start, end,
                 samples, ties] = x;
    return all(id, name, outlines, takenOut, reference, sides, motion, lens, least, scene, locked, hidden, start, end,
               samples, ties);
}
static Strings members(const SolvedFrame& x) {
    const auto& [frame, pose, focal, rms, tracks, deviation, focalDeviation] = x;
    return all(frame, pose, focal, rms, tracks, deviation, focalDeviation);
}
static Strings members(const SolvedTrack& x) {
    const auto& [track, role, xyz, direction, rms, frames, deviation, good] = x;
    return all(track, role, xyz, direction, rms, frames, deviation, good);
}
static Strings members(const Solve& x) {
    const auto& [lens, sensor, motion, reason, zoom, slope, frames, tracks, rms, held, noise, used, disagreed, heldOut,
                 duplicates, focalDeviation, focalRange, k1, k2, axis, base, angle, metres, doubt] = x;
    return all(lens, sensor, motion, reason, zoom, slope, frames, tracks, rms, held, noise, used, disagreed, heldOut,
               duplicates, focalDeviation, focalRange, k1, k2, axis, base, angle, metres, doubt);
}
static Strings members(const World::Measure& x) {
    const auto& [from, to, length] = x;
    return all(from, to, length);
}
static Strings members(const World& x) {
    const auto& [ground, origin, measure] = x;
    return all(ground, origin, measure);
}
static Strings members(const Locator& x) {
    const auto& [name, tracks, reference, kind, plane] = x;
    return all(name, tracks, reference, kind, plane);
}
static Strings members(const SteadyOptions& x) {
    const auto& [mode, position, rotation, scale, smoother, frames, leeway, fit, zoom, centre] = x;
    return all(mode, position, rotation, scale, smoother, frames, leeway, fit, zoom, centre);
}
static Strings members(const ShakeSample& x) {
    const auto& [right, down, angle, scale] = x;
    return all(right, down, angle, scale);
}
static Strings members(const ShakeProfile& x) {
    const auto& [name, fps, above, samples] = x;
    return all(name, fps, above, samples);
}
static Strings members(const ShakeLending& x) {
    const auto& [position, rotation, scale, fit] = x;
    return all(position, rotation, scale, fit);
}
static Strings members(const SteadySettings& x) {
    const auto& [steady, source, tracks, plane, pin, square, model, reference, options, shake, profile, lending, filter,
                 edges, place] = x;
    return all(steady, source, tracks, plane, pin, square, model, reference, options, shake, profile, lending, filter,
               edges, place);
}
static Strings members(const TransformOptions& x) {
    const auto& [origin, inverse, position, rotation, scale] = x;
    return all(origin, inverse, position, rotation, scale);
}
static Strings members(const Deliverable& x) {
    const auto& [name, kind, format, place, up, locator, transform, overscan, written] = x;
    return all(name, kind, format, place, up, locator, transform, overscan, written);
}
static Strings members(const Clip& x) {
    const auto& [id, name, path, width, height, aspect, fps, frames, still, hasAlpha, alpha] = x;
    return all(id, name, path, width, height, aspect, fps, frames, still, hasAlpha, alpha);
}
static Strings members(const Placing& x) {
    const auto& [centre, scale, turn, trims] = x;
    return all(centre, scale, turn, trims);
}
static Strings members(const ArtShape& x) {
    const auto& [left, top, right, bottom, round, soft] = x;
    return all(left, top, right, bottom, round, soft);
}
static Strings members(const ColourKey& x) {
    const auto& [colour, clears, keeps, spill] = x;
    return all(colour, clears, keeps, spill);
}
static Strings members(const Grade& x) {
    const auto& [gain, lift, gamma, saturation] = x;
    return all(gain, lift, gamma, saturation);
}
static Strings members(const LightWrap& x) {
    const auto& [amount, width] = x;
    return all(amount, width);
}
static Strings members(const InsertLook& x) {
    const auto& [blend, opacity, grade, blur, wrap] = x;
    return all(blend, opacity, grade, blur, wrap);
}
static Strings members(const ClipTime& x) {
    const auto& [start, in, out, after, ownRate] = x;
    return all(start, in, out, after, ownRate);
}
static Strings members(const OpacityKey& x) {
    const auto& [frame, opacity] = x;
    return all(frame, opacity);
}
static Strings members(const Insert& x) {
    const auto& [id, name, shows, clip, colour, ride, whole, onSurface, carrier, placing, shape, key, look, shutter,
                 heldOut, within, time, frames, opacityKeys, turns, lost, fade, hidden] = x;
    return all(id, name, shows, clip, colour, ride, whole, onSurface, carrier, placing, shape, key, look, shutter, heldOut, within,
               time, frames, opacityKeys, turns, lost, fade, hidden);
}
static Strings members(const Shot& x) {
    const auto& [name, plate, scatter, lens, settings, mattes, tracks, next, planes, nextPlane, solve, solvedKey, world,
                 locators, steady, clips, nextClip, inserts, nextInsert, insertsPlace, insertsAlone, deliverables,
                 folder] = x;
    return all(name, plate, scatter, lens, settings, mattes, tracks, next, planes, nextPlane, solve, solvedKey, world,
               locators, steady, clips, nextClip, inserts, nextInsert, insertsPlace, insertsAlone, deliverables,
               folder);
}

template <class T>
std::string text(const std::vector<T>& values) {
    std::string joined = "[";
    for (const T& value : values) joined += text(value) + " ";
    return joined + "]";
}
template <class T>
std::string text(const List<T>& values) {
    return text(values.vector());
}
template <class T>
std::string text(const std::optional<T>& value) {
    return value ? "?" + text(*value) : "none";
}
template <class T>
std::string text(const std::shared_ptr<const T>& value) {
    return value ? "*" + text(*value) : "null";
}
template <class T>
    requires requires(const T& value) { members(value); }
std::string text(const T& value) {
    std::string joined = "{";
    for (const std::string& member : members(value)) joined += member + ", ";
    return joined + "}";
}

}  // namespace pinion

using namespace pinion;

namespace {

/// That no member is as it is by itself: a reader that forgets one would otherwise pass.
template <class T>
void checkAllSet(const T& value, const char* what) {
    const Strings own = members(value), usual = members(T{});
    for (std::size_t i = 0; i < own.size(); ++i) {
        INFO(what << ", member " << i << ": " << own[i].substr(0, 80));
        CHECK(own[i] != usual[i]);
    }
}

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
    i.ride = Matte::Ride{{"p1"}, 1004, Matte::Ride::On::tracks, "", ""};
    i.wholeFrame = i.onSurface = true;
    i.carrier = {Eigen::Vector2d(10, 10), {80, 12}, {82, 60}, {11, 61.5}};
    i.placing = {
        {0.25, 0.75}, {0.5, 1.5}, 12.5, {Eigen::Vector2d(0.125, 0), {0, -0.25}, {0.0625, 0.5}, {-0.125, 0.25}}};
    i.shape = {0.125, 0.25, 0.0625, 0.03125, 0.375, 2.5};
    i.key = ColourKey{{0.125F, 0.75F, 0.25F}, 0.25F, 0.0625F, 0.5F};
    i.look = {Blend::screen, 0.75, {{1.5, 0.75, 0.5}, {0.125, 0.25, -0.125}, 1.25, 0.5}, 1.75, {0.5, 7.5}};
    i.shutter = 0.5;
    i.heldOut = std::vector<std::string>{"crane"};
    i.within = std::vector<std::string>{"crane", "another"};
    i.time = {1006, 12, 60, ClipTime::After::loop, true};
    i.frames = FrameRange{1004, 1007};
    i.opacityKeys = std::vector<OpacityKey>{{1004, 0.5}, {1006, 0.25}};
    i.turns = std::vector<Matte::Turn>{{1005, false}, {1006, true}};
    i.lost = Insert::Lost::fades;
    i.fadeFrames = 7;
    i.hidden = true;
    return i;
}

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
    c.focalTrust_mm = 1.25;
    c.distortion = SolveOptions::Distortion::known;
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
         Matte::Ride{{"p1", "p2"}, 1007, Matte::Ride::On::plane, "", "notice"},
         {{1005, false}, {1008, true}},
         0x7FB7BE,
         0.4,
         true,
         true,
         matteSequence("/made/matte.####.exr")}};
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
    s.world.ground = std::vector<TrackId>{7};
    s.world.origin = 7;
    s.world.measure = World::Measure{7, 9, 2.5};
    s.locators = std::vector<Locator>{{"sign", List<TrackId>({7}), 1004, MotionKind::perspective, "notice"}};
    SteadySettings& h = s.steady;
    h.steady = h.cornerPin = h.squareUp = h.shake = true;
    h.source = SteadySettings::Source::plane;
    h.plane = "notice";
    h.tracks = std::vector<TrackId>{7};
    h.model = PictureModel::perspective;
    h.referenceFrame = 1004;
    h.options = {SteadyOptions::Mode::ease, 0.5,  0.25,        0.75, SteadyOptions::Smoother::l1, 9.5, 0.02,
                 SteadyOptions::Fit::crop,  1.25, {0.25, 0.75}};
    h.profile = std::make_shared<const ShakeProfile>(ShakeProfile{"hand", {25, 1}, 0.5, {{0.01, 0.02, 1.5, 1.01}}});
    h.lending = {0.5, 0.25, 2, SteadyOptions::Fit::none};
    h.filter = ResampleFilter::lanczos;
    h.edges = EdgeMode::mirrored;
    h.renderPlace = "held.####.exr";
    s.clips = std::vector<Clip>{
        {4, "lamp", "/made/up/lamp.####.tif", 320, 240, 2, {30000, 1001}, {11, 70}, true, true, AlphaKind::straight}};
    s.nextClip = 6;
    s.inserts = std::vector<Insert>{fullInsert()};
    s.nextInsert = 12;
    s.insertsPlace = "lamp.####.exr";
    s.insertsAlone = true;
    s.deliverables = std::vector<Deliverable>{{"sign pin",
                                               DeliverableKind::cornerPin,
                                               DeliverableFormat::csv,
                                               "sub/sign.csv",
                                               UpAxis::z,
                                               "sign",
                                               {Origin::bottomLeft, true, false, false, false},
                                               true,
                                               0x123456789ABCDEFULL}};
    s.deliveryFolder = "/made/up/delivery";
    return s;
}

}  // namespace

TEST_CASE("a shot with every member set comes back the same, member by member") {
    const Shot shot = fullShot();
    checkAllSet(shot, "shot");
    checkAllSet(shot.plate, "plate");
    checkAllSet(shot.scatterSettings, "scatter");
    checkAllSet(shot.solveSettings, "camera settings");
    checkAllSet(shot.mattes[0], "matte");
    checkAllSet(shot.tracks[0], "track");
    checkAllSet(shot.tracks[0].samples[0], "sample");
    checkAllSet(shot.planes[0], "plane");
    checkAllSet(shot.planes[0].samples[0], "plane sample");
    checkAllSet(*shot.solve, "solve");
    checkAllSet(shot.solve->frames[0], "solved frame");
    checkAllSet(shot.solve->tracks[0], "solved track");
    Lens lens = shot.solve->lens;
    lens.field = shot.lens.lens->field;  // never both in one lens
    checkAllSet(lens, "lens");
    checkAllSet(shot.world, "world");
    checkAllSet(shot.locators[0], "locator");
    checkAllSet(shot.steady, "steady");
    checkAllSet(shot.steady.options, "steady options");
    checkAllSet(shot.steady.lending, "lending");
    checkAllSet(*shot.steady.profile, "profile");
    checkAllSet(shot.clips[0], "clip");
    checkAllSet(shot.inserts[0], "insert");
    checkAllSet(shot.inserts[0].placing, "placing");
    checkAllSet(shot.inserts[0].shape, "art shape");
    checkAllSet(*shot.inserts[0].key, "colour key");
    checkAllSet(shot.inserts[0].look, "look");
    checkAllSet(shot.inserts[0].look.grade, "grade");
    checkAllSet(shot.inserts[0].look.wrap, "light wrap");
    checkAllSet(shot.inserts[0].time, "clip time");
    checkAllSet(shot.deliverables[0], "deliverable");
    checkAllSet(shot.deliverables[0].transform, "transform");

    const test::Scratch scratch;
    REQUIRE(saveShot(shot, scratch / "full.pinion"));
    const auto read = loadShot(scratch / "full.pinion");
    INFO((read ? std::string() : read.error().message));
    REQUIRE(read);
    const Strings before = members(shot), after = members(*read);
    REQUIRE(before.size() == after.size());
    for (std::size_t i = 0; i < before.size(); ++i) {
        INFO("member " << i);
        CHECK(before[i] == after[i]);
    }
    // And once more: what was read writes the same file.
    REQUIRE(saveShot(*read, scratch / "again.pinion"));
    std::ifstream one(scratch / "full.pinion"), two(scratch / "again.pinion");
    const std::string first((std::istreambuf_iterator<char>(one)), {}),
        second((std::istreambuf_iterator<char>(two)), {});
    CHECK(first == second);
}
