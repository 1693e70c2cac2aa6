// What the shot holds of its lens: edits, what the docket says, what the results depend on, what is handed on.

#include "exchange/deliverables.h"
#include "exchange/formats.h"
#include "exchange/newshot.h"
#include "exchange/opencvlens.h"
#include "exchange/shotfiles.h"
#include "jobs/delivering.h"
#include "scratch.h"
#include "shot/edits/cameraedits.h"
#include "shot/edits/lensedits.h"
#include "shot/file/shotfile.h"
#include "shot/stages/camerastage.h"
#include "shot/stages/lensstage.h"

#include <OpenImageIO/imageio.h>
#include <catch2/catch.hpp>

using namespace pinion;
using Eigen::Vector2d;

namespace {

Lens cardBarrel() {
    Lens lens = pinholeLens(640, 360, 500);
    lens.k1 = -0.12;
    lens.k2 = 0.02;
    return lens;
}

Shot lensShot() {
    PlateFacts facts;
    facts.path = "made.mp4";
    facts.width = 640;
    facts.height = 360;
    facts.firstFrame = 1001;
    facts.lastFrame = 1010;
    return shotOf(facts);
}

LensLine lineOf(int frame, std::vector<Vector2d> clicks, std::vector<Vector2d> edge = {}) {
    return {frame, List<Vector2d>(std::move(clicks)), List<Vector2d>(std::move(edge))};
}

Shot solved(const Shot& shot, const Lens& lens) {
    Solve solve;
    solve.lens = lens;
    SolvedFrame frame;
    frame.frame = 1001;
    frame.focal_px = lens.focal_px;
    solve.frames = std::vector<SolvedFrame>{frame};
    return withSolve(shot, solve, shot);
}

const Deliverable& item(const Shot& shot, DeliverableKind kind) {
    return *std::find_if(shot.deliverables.begin(), shot.deliverables.end(),
                         [kind](const Deliverable& d) { return d.kind == kind; });
}

}  // namespace

TEST_CASE("the docket says of the lens what is there, what is missing and what is wrong") {
    Shot shot = lensShot();
    CHECK(lensReport(shot).state == StageState::empty);
    CHECK(lensReport(shot).number == "as filmed");
    const Shot drawn = withLensLines(shot, {lineOf(1001, {{10, 10}, {300, 12}})});
    CHECK(lensReport(drawn).state == StageState::attention);
    CHECK(lensReport(drawn).number == "1 line");
    CHECK(lensReport(drawn).message.find("do not tell the lens yet") != std::string::npos);
    const Shot with = withLens(shot, cardBarrel(), LensCard::Source::file);
    CHECK(lensReport(with).state == StageState::done);
    CHECK(lensReport(with).number.find("px at the corner") != std::string::npos);
    const Shot unsure = withLens(shot, cardBarrel(), LensCard::Source::lines, {.border_px = 3.2});
    CHECK(lensReport(unsure).message.find("sure to 3.2 px only") != std::string::npos);
    Lens other = cardBarrel();
    other.width = 1280;
    CHECK(lensReport(withLens(shot, other, LensCard::Source::file)).message.find("1280x360") != std::string::npos);
}

TEST_CASE("lines go into the fit when they have three places or an edge, and what they say depends on nothing else") {
    const Shot shot =
        withLensLines(lensShot(), {lineOf(1001, {{10, 10}, {300, 12}}), lineOf(1002, {{10, 20}, {300, 22}, {600, 20}}),
                                   lineOf(1003, {{5, 5}, {9, 9}}, {{5, 5}, {7, 7.1}, {9, 9}})});
    const LinesToFit fit = linesToFit(shot);
    REQUIRE(fit.lines.size() == 2);
    CHECK(fit.places == std::vector<std::size_t>{1, 2});
    CHECK(fit.lines[1].points.size() == 3);
    CHECK(shot.lens.source == LensCard::Source::lines);

    const auto key = linesKey(shot);
    CHECK(linesKey(withLens(shot, cardBarrel(), LensCard::Source::typed)) == key);
    Shot other = shot;
    other.lens.terms = LineTerms::k1;
    CHECK(linesKey(other) != key);
    other = shot;
    other.lens.axis = LineAxis::free;
    CHECK(linesKey(other) != key);
    other = shot;
    other.solveSettings.focal = Knowledge::known;
    other.solveSettings.focal_mm = 50;
    CHECK(linesKey(other) != key);
    std::vector<LensLine> lines = shot.lens.lines.vector();
    lines[1].clicks = lines[1].clicks.edited([](auto& clicks) { clicks[0].y() += 0.1; });
    CHECK(linesKey(withLensLines(shot, lines)) != key);
    // The last line gone, its lens is gone too; one from elsewhere stays.
    const Shot withFit = withLens(shot, cardBarrel(), LensCard::Source::lines);
    CHECK_FALSE(withLensLines(withFit, {}).lens.lens);
    CHECK(withLensLines(withLens(shot, cardBarrel(), LensCard::Source::chart), {}).lens.lens);
}

TEST_CASE("coefficients are told at the focal length that is known, else the solve's, else a usual one") {
    Shot shot = lensShot();
    CHECK(focalForLens_px(shot) == Approx(640 * 35.0 / 36));
    shot = solved(shot, cardBarrel());
    CHECK(focalForLens_px(shot) == 500);
    shot.solveSettings.focal = Knowledge::known;
    shot.solveSettings.focal_mm = 18;
    CHECK(focalForLens_px(shot) == 320);
}

TEST_CASE("a solve is stale when the lens it keeps bends other pixels, not when it is told at another focal length") {
    Shot shot = withLens(lensShot(), cardBarrel(), LensCard::Source::chart);
    shot.solveSettings.distortion = SolveOptions::Distortion::known;
    const auto key = solveKey(shot);
    CHECK(solveKey(withLens(shot, atFocal(cardBarrel(), 777), LensCard::Source::chart)) == key);
    Lens bent = cardBarrel();
    bent.k1 -= 0.001;
    CHECK(solveKey(withLens(shot, bent, LensCard::Source::chart)) != key);
    CHECK(solveOptionsOf(shot).lens == cardBarrel());
    shot.solveSettings.distortion = SolveOptions::Distortion::guessed;
    CHECK(solveKey(shot) != key);
    CHECK(solveOptionsOf(shot).lens == cardBarrel());
    shot.solveSettings.distortion = SolveOptions::Distortion::unknown;
    CHECK_FALSE(solveOptionsOf(shot).lens);
    const auto ignored = solveKey(shot);
    CHECK(solveKey(withLens(shot, bent, LensCard::Source::chart)) == ignored);
}

TEST_CASE("a shot from before there was a Lens card keeps the lens that its camera knew") {
    Shot shot = withLens(lensShot(), cardBarrel(), LensCard::Source::file);
    shot.solveSettings.distortion = SolveOptions::Distortion::known;
    std::string contents = shotJson(shot, "/made/a.pinion");
    // As it was written then: no "lens" of its own, the values within "camera".
    const std::string part = "\"lens\":{\"chart\"";
    const auto at = contents.find(part);
    REQUIRE(at != std::string::npos);
    const auto values = contents.find("\"lens\":{", at + 8), end = contents.find('}', values);
    const std::string lens = contents.substr(values, end + 1 - values);
    contents.replace(at, std::string("\"lens\"").size(), "\"later\"");
    const auto camera = contents.find("\"camera\":{");
    contents.insert(camera + std::string("\"camera\":{").size(), lens + ",");
    const auto read = parseShot(contents, "/made/a.pinion");
    REQUIRE(read);
    CHECK(read->lens.lens == cardBarrel());
    CHECK(read->lens.source == LensCard::Source::file);
    CHECK(solveKey(*read) == solveKey(shot));
}

TEST_CASE("the lens is handed on as JSON and for OpenCV, with maps, from the card alone or from the solve") {
    const test::Scratch scratch;
    Shot shot = lensShot();
    CHECK_FALSE(deliver(shot, item(shot, DeliverableKind::lens), scratch.path()));
    CHECK_FALSE(deliver(shot, item(shot, DeliverableKind::stMaps), scratch.path()));
    shot = withLens(shot, cardBarrel(), LensCard::Source::lines);
    REQUIRE(deliver(shot, item(shot, DeliverableKind::lens), scratch.path()));
    const auto json = readLens(scratch / "made.lens.json");
    REQUIRE(json);
    CHECK(*json == cardBarrel());
    Deliverable yaml = item(shot, DeliverableKind::lens);
    yaml.format = DeliverableFormat::yaml;
    yaml.place = "made.yml";
    REQUIRE(deliver(shot, yaml, scratch.path()));
    CHECK(readOpenCvLens(scratch / "made.yml")->k1 == Approx(-0.12));
    REQUIRE(deliver(shot, item(shot, DeliverableKind::stMaps), scratch.path()));
    CHECK(readStMap(scratch / "stmaps/undistort.exr")->data == undistortedBox(cardBarrel()));
    Deliverable table = item(shot, DeliverableKind::lens);
    table.format = DeliverableFormat::csv;
    CHECK_FALSE(deliverableText(shot, table));

    // What is handed on belongs to the camera that is handed on.
    const auto before = deliveryKey(shot, item(shot, DeliverableKind::lens));
    Lens found = cardBarrel();
    found.k1 = -0.13;
    shot = solved(shot, found);
    CHECK(lensFileOf(shot)->k1 == -0.13);
    CHECK(lensInForce(shot)->k1 == -0.12);
    CHECK(deliveryKey(shot, item(shot, DeliverableKind::lens)) != before);
}

TEST_CASE("a camera for the undistorted plate is another delivery than one for the plate as filmed") {
    Shot shot = solved(lensShot(), cardBarrel());
    Deliverable camera = item(shot, DeliverableKind::camera);
    const auto filmed = deliverableText(shot, camera);
    const auto key = deliveryKey(shot, camera);
    camera.overscan = true;
    CHECK(deliveryKey(shot, camera) != key);
    const auto straight = deliverableText(shot, camera);
    REQUIRE(filmed);
    REQUIRE(straight);
    CHECK(filmed->find("pinion:lens:k1 = -0.12") != std::string::npos);
    CHECK(straight->find("pinion:lens:k1 = 0\n") != std::string::npos);
    auto zoom = std::make_shared<Solve>(*shot.solve);
    zoom->zoom = true;
    shot.solve = zoom;
    const auto refused = deliverableText(shot, camera);
    REQUIRE_FALSE(refused);
    CHECK(refused.error().message.find("zoom's overscan differs") != std::string::npos);
}

TEST_CASE("data windows that differ from frame to frame are read into one that holds them all") {
    const test::Scratch scratch;
    const auto write = [&](int frame, int x, int y, int width, int height, float value) {
        const auto path = scratch / fmt::format("cg.{}.exr", frame);
        const auto output = OIIO::ImageOutput::create(path.string());
        OIIO::ImageSpec spec(width, height, 3, OIIO::TypeDesc::FLOAT);
        spec.x = x;
        spec.y = y;
        spec.full_width = 40;
        spec.full_height = 20;
        REQUIRE(output->open(path.string(), spec));
        const std::vector<float> pixels(std::size_t(width * height * 3), value);
        REQUIRE(output->write_image(OIIO::TypeDesc::FLOAT, pixels.data()));
        REQUIRE(output->close());
    };
    write(1, -3, -2, 20, 10, 0.25F);  // as a renderer crops to what it drew
    write(2, 10, 5, 36, 18, 0.75F);
    const auto plate = Plate::open(scratch / "cg.1.exr", {.overscan = true});
    REQUIRE(plate);
    const PlateFacts& facts = (*plate)->facts();
    REQUIRE(facts.window);
    CHECK(facts.window->x0 == -3);
    CHECK(facts.window->y0 == -2);
    CHECK(facts.width == 49);
    CHECK(facts.height == 25);
    const auto one = (*plate)->read(1), two = (*plate)->read(2);
    REQUIRE(one);
    REQUIRE(two);
    const auto at = [](const Picture& p, int x, int y) {
        return p.floats[(std::size_t(y + 2) * std::size_t(p.width) + std::size_t(x + 3)) * 3];
    };
    CHECK(at(**one, -3, -2) == 0.25F);
    CHECK(at(**one, 16, 7) == 0.25F);
    CHECK(at(**one, 17, 7) == 0.0F);
    CHECK(at(**two, 10, 5) == 0.75F);
    CHECK(at(**two, 45, 22) == 0.75F);
    CHECK(at(**two, 9, 5) == 0.0F);
    // Opened as a plate it is the frame, as before.
    const auto frame = Plate::open(scratch / "cg.1.exr");
    REQUIRE(frame);
    CHECK((*frame)->facts().width == 40);
    CHECK((*(*frame)->read(1))->floats[0] == 0.25F);
}
