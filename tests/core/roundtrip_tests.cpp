// A shot with every member set comes back from its file as the same value. Members are taken apart by structured
// bindings: one that is added to a structure does not compile here before it is set and compared.

#include "camera/object.h"
#include "mutations/fullshot.h"
#include "scratch.h"
#include "shot/file/shotfile.h"

#include <catch2/catch.hpp>
#include <fstream>
#include <nlohmann/json.hpp>
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
    const auto& [a, b, metres, sigma] = x;
    return all(a, b, metres, sigma);
}
static Strings members(const KnownPlace& x) {
    const auto& [track, metres, sigma] = x;
    return all(track, metres, sigma);
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
    const auto& [sensor, focal, mm, sigma, distortion, axis, motion, zoom, reading, readout, readoutSigma, readBy,
                 squeeze, base, scene, distances, places] = x;
    return all(sensor, focal, mm, sigma, distortion, axis, motion, zoom, reading, readout, readoutSigma, readBy,
               squeeze, base, scene, distances, places);
}
static Strings members(const Matte::Key& x) {
    const auto& [frame, polygon, in, out, feather] = x;
    return all(frame, polygon, in, out, feather);
}
static Strings members(const Ride& x) {
    const auto& [on, ids, frame, as, names] = x;
    return all(on, ids, frame, as, names);
}
static Strings members(const Matte::Turn& x) {
    const auto& [frame, there] = x;
    return all(frame, there);
}
static Strings members(const Matte& x) {
    const auto& [name, mode, keys, op, invert, feather, grow, between, ride, turns, colour, opacity, hidden, locked,
                 pictures, id] = x;
    return all(name, mode, keys, op, invert, feather, grow, between, ride, turns, colour, opacity, hidden, locked,
               pictures ? pictures->path() : std::string(), id);
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
static Strings members(const MovingTracks& x) {
    const auto& [tracks, frames] = x;
    return all(tracks, frames);
}
static Strings members(const Readout& x) {
    const auto& [share, columns] = x;
    return all(share, columns);
}
static Strings members(const Solve& x) {
    const auto& [lens, sensor, motion, reason, zoom, slope, readout, readoutDeviation, frames, tracks, rms, held, noise,
                 used, disagreed, heldOut, duplicates, focalDeviation, focalRange, k1, k2, axis, base, angle, metres,
                 movers, doubt] = x;
    return all(lens, sensor, motion, reason, zoom, slope, readout, readoutDeviation, frames, tracks, rms, held, noise,
               used, disagreed, heldOut, duplicates, focalDeviation, focalRange, k1, k2, axis, base, angle, metres,
               movers, doubt);
}
static Strings members(const ObjectFrame& x) {
    const auto& [frame, pose, rms, tracks] = x;
    return all(frame, pose, rms, tracks);
}
static Strings members(const ObjectPoint& x) {
    const auto& [track, xyz, rms] = x;
    return all(track, xyz, rms);
}
static Strings members(const ObjectSolve& x) {
    const auto& [frames, points, scale, deviation, rms, held, doubt] = x;
    return all(frames, points, scale, deviation, rms, held, doubt);
}
static Strings members(const ShotObject& x) {
    const auto& [id, name, tracks, ground, solve, key] = x;
    return all(id, name, tracks, ground, solve, key);
}
static Strings members(const World::Measure& x) {
    const auto& [from, to, length] = x;
    return all(from, to, length);
}
static Strings members(const World::Facing& x) {
    const auto& [from, to] = x;
    return all(from, to);
}
static Strings members(const World& x) {
    const auto& [ground, origin, measures, height, facing, wall, turn, flipped] = x;
    return all(ground, origin, measures, height, facing, wall, turn, flipped);
}
static Strings members(const Stance& x) {
    const auto& [place, turn, size] = x;
    return all(place, turn, size);
}
static Strings members(const StanceKey& x) {
    const auto& [frame, stance] = x;
    return all(frame, stance);
}
static Strings members(const CardLook& x) {
    const auto& [time, key, faces] = x;
    return all(time, key, faces);
}
static Strings members(const StandIn& x) {
    const auto& [id, name, kind, file, words, card, stance, keys, colour, opacity, casts, catches, hides, hidden,
                 carrier, group, frames] = x;
    return all(id, name, kind, file, words, card, stance, keys, colour, opacity, casts, catches, hides, hidden, carrier,
               group, frames);
}
static Strings members(const Sun& x) {
    const auto& [towards, softness, strength, sky] = x;
    return all(towards, softness, strength, sky);
}
static Strings members(const SceneWriting& x) {
    const auto& [place, manner, passes, shutter] = x;
    return all(place, manner, passes, shutter);
}
static Strings members(const SceneLook& x) {
    const auto& [standIns, sun, ground, catches] = x;
    return all(standIns, sun, ground, catches);
}
static Strings members(const Locator& x) {
    const auto& [id, name, on] = x;
    return all(id, name, on);
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
    const auto& [steady, on, tracks, pin, square, model, rows, reference, options, shake, profile, lending, filter,
                 edges, place] = x;
    return all(steady, on, tracks, pin, square, model, rows, reference, options, shake, profile, lending, filter, edges,
               place);
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
    const auto& [id, name, kind, of, from, shows, clip, colour, ride, whole, onSurface, carrier, placing, shape, key,
                 look, shutter, heldOut, within, time, frames, opacityKeys, turns, lost, fade, hidden] = x;
    return all(id, name, kind, of, from, shows, clip, colour, ride, whole, onSurface, carrier, placing, shape, key,
               look, shutter, heldOut, within, time, frames, opacityKeys, turns, lost, fade, hidden);
}
static Strings members(const KeptSolve& x) {
    const auto& [id, solve, key, settings] = x;
    return all(id, solve, key, settings);
}
static Strings members(const Shot& x) {
    const auto& [name, plate, scatter, lens, settings, mattes, nextMatte, tracks, next, planes, nextPlane, solve,
                 solvedKey, solveId, solvedWith, keptSolves, nextSolve, world, scene, writing, nextStandIn, objects,
                 nextObject, locators, nextLocator, steady, clips, nextClip, inserts, nextInsert, insertsPath,
                 insertsAlone, deliverables, folder] = x;
    return all(name, plate, scatter, lens, settings, mattes, nextMatte, tracks, next, planes, nextPlane, solve,
               solvedKey, solveId, solvedWith, keptSolves, nextSolve, world, scene, writing, nextStandIn, objects,
               nextObject, locators, nextLocator, steady, clips, nextClip, inserts, nextInsert, insertsPath,
               insertsAlone, deliverables, folder);
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

}  // namespace

TEST_CASE("a shot with every member set comes back the same, member by member") {
    const Shot shot = bench::fullShot();
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
    checkAllSet(shot.solve->movers[0], "mover");
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

TEST_CASE("a value of another kind is refused by its place, whichever value of a shot it is") {
    using nlohmann::json;
    const test::Scratch scratch;
    const auto path = scratch / "s.pinion";
    const json whole = json::parse(shotJson(bench::fullShot(), path));
    const json values = whole.flatten();
    int tried = 0;
    for (const auto& [pointer, value] : values.items()) {
        json other = whole;
        json& one = other[json::json_pointer(pointer)];
        if (value.is_string()) one = 7.5;
        else one = "of another kind";
        std::ofstream(path) << other.dump();
        const auto read = loadShot(path);
        INFO(pointer << (read ? std::string() : ": " + read.error().message));
        // What stands in the file beside what is asked for is nobody's business.
        if (!read) CHECK(read.error().message.find("of another kind than expected") == std::string::npos);
        ++tried;
    }
    CHECK(tried > 400);
}
