// Art and plates as people have them: every kind of file, depth and alpha, odd windows, pixels that are not square; and
// what every writer keeps of them.

#include "comp/artshelf.h"
#include "comp/composing.h"
#include "comp/insert.h"
#include "comp/putback.h"
#include "comp/render.h"
#include "jobs/inserting.h"
#include "jobs/matting.h"
#include "made.h"
#include "madevideo.h"
#include "matte/sequence.h"
#include "plate/framewriter.h"
#include "plate/still.h"
#include "scratch.h"
#include "shot/carriers/carriers.h"
#include "shot/edits/insertedits.h"
#include "shot/edits/matteedits.h"
#include "shot/edits/planeedits.h"
#include "shot/file/shotfile.h"
#include "shot/stages/mattesstage.h"

#include <OpenImageIO/deepdata.h>
#include <OpenImageIO/imageio.h>
#include <catch2/catch.hpp>
#include <cmath>
#include <fstream>
#include <limits>

using namespace pinion;
using Eigen::Vector2d;

namespace {

constexpr float kRed = 204 / 255.0F, kGreen = 102 / 255.0F, kBlue = 51 / 255.0F;

Picture flat(int width, int height, std::uint8_t value) {
    Picture picture{width, height, Picture::Depth::bits8, false, {}, {}};
    picture.bytes.assign(3 * std::size_t(width) * std::size_t(height), value);
    return picture;
}

/// A kind of file with four channels, as programs write them.
struct ArtFile {
    const char* name;
    OIIO::TypeDesc type;
    bool isStraight, isLinear;
    float alpha = 0.5F;
    bool isCut = false;  ///< its data window is smaller than its frame
};

/// 204/102/51 wherever the alpha is; `alone`: as a program that is not ours would store it.
void write(const std::filesystem::path& path, const ArtFile& kind, int side = 16) {
    OIIO::ImageSpec spec(side, side, 4, kind.type);
    if (kind.isCut) {
        spec.width = spec.height = side / 2;
        spec.x = spec.y = side / 4;
        spec.full_width = spec.full_height = side;
        spec.full_x = spec.full_y = 0;
    }
    spec.alpha_channel = 3;
    if (kind.isStraight) spec.attribute("oiio:UnassociatedAlpha", 1);
    spec.attribute("oiio:ColorSpace", kind.isLinear ? "Linear" : "sRGB");
    std::vector<float> pixels;
    for (int i = 0; i < spec.width * spec.height; ++i) {
        for (float value : {kRed, kGreen, kBlue}) {
            if (kind.isLinear) value = decodeSrgb(value);
            pixels.push_back(kind.isStraight ? value : value * kind.alpha);
        }
        pixels.push_back(kind.alpha);
    }
    const auto output = OIIO::ImageOutput::create(path.string());
    REQUIRE(output);
    REQUIRE(output->open(path.string(), spec));
    REQUIRE(output->write_image(OIIO::TypeDesc::FLOAT, pixels.data()));
    REQUIRE(output->close());
}

/// What a clip gives over a grey of 128, in the middle of 16 x 16 pixels.
std::array<int, 3> laidOver(const Clip& clip) {
    ArtShelf shelf;
    const auto art = shelf.art(clip, clip.frames.first, false);
    INFO((art ? std::string() : art.error().message));
    REQUIRE(art);
    const Quad quad{Vector2d(0, 0), {16, 0}, {16, 16}, {0, 16}};
    Picture plate = flat(16, 16, 128);
    lay(plate, (*art)->laid(std::span(&quad, 1), 16, 16), Blend::over);
    const std::size_t at = 3 * (8 * 16 + 8);
    return {plate.bytes[at], plate.bytes[at + 1], plate.bytes[at + 2]};
}

}  // namespace

TEST_CASE("soft alpha is laid once, from every kind of file") {
    using Type = OIIO::TypeDesc;
    const test::Scratch scratch;
    const ArtFile files[] = {
        {"eight.png", Type::UINT8, true, false},          {"sixteen.png", Type::UINT16, true, false},
        {"LOUD.PNG", Type::UINT8, true, false},           {"straight.tif", Type::UINT8, true, false},
        {"straight16.tiff", Type::UINT16, true, false},   {"multiplied.tif", Type::UINT8, false, false},
        {"multiplied16.TIF", Type::UINT16, false, false}, {"half.exr", Type::HALF, false, true},
        {"float.exr", Type::FLOAT, false, true},          {"cut.exr", Type::HALF, false, true, 0.5F, true},
    };
    for (const ArtFile& file : files) {
        INFO(file.name);
        write(scratch / file.name, file);
        const auto clip = clipOf(scratch / file.name);
        REQUIRE(clip);
        CHECK(clip->hasAlpha);
        CHECK(clip->still);
        // By hand: 0.5 x 204 + 0.5 x 128, and so on.
        const auto got = laidOver(*clip);
        const int wanted[] = {166, 115, 90};
        for (std::size_t c = 0; c < 3; ++c) CHECK(std::abs(got[c] - wanted[c]) <= 1);
    }
}

TEST_CASE("an RGBA plate keeps the colours it holds, and its own straight pictures come back as they were") {
    const test::Scratch scratch;
    write(scratch / "p.0001.png", {"", OIIO::TypeDesc::UINT8, true, false});
    const auto plate = Plate::open(scratch / "p.0001.png");
    REQUIRE(plate);
    const auto picture = (*plate)->read(1);
    REQUIRE(picture);
    CHECK(int((*picture)->bytes[0]) == 204);
    CHECK(int((*picture)->bytes[2]) == 51);
    // Written with a soft matte and read again.
    auto writer = FrameWriter::create(scratch / "o.####.png", 16, 16, {24, 1});
    REQUIRE(writer);
    REQUIRE((*writer)->write(1, **picture, ImageChannel(16, 16, 0.25F), AlphaKind::straight, AlphaKind::straight));
    const auto again = readStill(scratch / "o.0001.png");
    REQUIRE(again);
    CHECK((*again)->bytes == (*picture)->bytes);
}

TEST_CASE("a chosen picture is a still, whatever lies beside it; its pattern means all of them") {
    const test::Scratch scratch;
    for (const char* name : {"logo_v1.png", "logo_v2.png", "logo_v3.png"})
        write(scratch / name, {"", OIIO::TypeDesc::UINT8, true, false});
    const auto one = clipOf(scratch / "logo_v2.png");
    REQUIRE(one);
    CHECK(one->still);
    CHECK(one->path == scratch / "logo_v2.png");
    const auto pattern = sequenceAround(scratch / "logo_v2.png");
    CHECK(pattern == scratch / "logo_v####.png");
    CHECK(picturesAround(scratch / "logo_v2.png").size() == 3);
    CHECK(picturesAround(pattern).front() == scratch / "logo_v1.png");
    const auto all = clipOf(pattern);
    REQUIRE(all);
    CHECK_FALSE(all->still);
    CHECK(all->frames == FrameRange{1, 3});
}

TEST_CASE("art that was replaced is read anew, and a render of it does not go on from the old") {
    const test::Scratch scratch;
    write(scratch / "art.png", {"", OIIO::TypeDesc::UINT8, true, false, 1.0F});
    const auto clip = clipOf(scratch / "art.png");
    REQUIRE(clip);
    ArtShelf shelf;
    const auto first = shelf.art(*clip, 1, false);
    REQUIRE(first);
    CHECK(shelf.art(*clip, 1, false).value() == *first);
    // Another picture of the same size and name, a moment later.
    auto writer = FrameWriter::create(scratch / "art.####.png", 16, 16, {24, 1});
    REQUIRE((*writer)->write(1, flat(16, 16, 10), ImageChannel(16, 16, 1), AlphaKind::straight, AlphaKind::straight));
    std::filesystem::rename(scratch / "art.0001.png", scratch / "art.png");
    const auto second = shelf.art(*clip, 1, false);
    REQUIRE(second);
    CHECK(*second != *first);
    CHECK(laidOver(*clip)[0] == 10);
}

TEST_CASE("every writer keeps the pixel aspect, and every reader finds it again") {
    const test::Scratch scratch;
    PlateFacts anamorphic;
    anamorphic.width = 64;
    anamorphic.height = 48;
    anamorphic.fps = {24, 1};
    for (const double aspect : {2.0, 1.333, 0.9})
        for (const char* name : {"a.####.exr", "a.####.png", "a.####.tif", "a.####.TIFF", "a.mp4", "a.mov", "a.mkv"}) {
            anamorphic.pixelAspect = aspect;
            INFO(name << " " << aspect);
            auto writer = FrameWriter::createFor(anamorphic, scratch / name);
            REQUIRE(writer);
            for (int frame = 1; frame <= 3; ++frame) REQUIRE((*writer)->write(frame, flat(64, 48, 90)));
            REQUIRE((*writer)->finish());
            const auto plate = Plate::open(scratch / name);
            REQUIRE(plate);
            CHECK((*plate)->facts().pixelAspect == Approx(aspect).epsilon(1e-3));
            const auto clip = clipOf(scratch / name);
            REQUIRE(clip);
            CHECK(clip->pixelAspect == Approx(aspect).epsilon(1e-3));
        }
}

TEST_CASE("an insert on an anamorphic plate is fitted and turned as it is seen") {
    // A plate of pixels twice as wide as high; a carrier of 40 x 80 pixels is a square on the screen.
    Shot shot;
    shot.plate.path = "/made/up/plate.####.png";
    shot.plate.width = 200;
    shot.plate.height = 200;
    shot.plate.pixelAspect = 2;
    shot.plate.fps = {24, 1};
    shot.plate.frames = shot.plate.range = {1, 3};
    Clip square;
    square.path = "/made/up/square.png";
    square.name = "square";
    square.width = square.height = 100;
    square.still = true;
    Insert insert;
    insert.ride = rideOnTracks({1, 2, 3, 4}, 1);
    std::vector<Track> tracks;
    for (const Vector2d& at : {Vector2d(20, 20), Vector2d(60, 20), Vector2d(60, 100), Vector2d(20, 100)}) {
        Track track = test::placed(1, at);
        track.id = TrackId(tracks.size() + 1);
        track.name = std::string(1, char('a' + tracks.size()));
        std::vector<Sample> samples;
        for (int frame = 1; frame <= 3; ++frame) samples.push_back({.frame = frame, .at = at});
        track.samples = samples;
        tracks.push_back(track);
    }
    shot.tracks = tracks;
    shot = withClipAdded(shot, square, &insert.clip);
    InsertId id = 0;
    shot = withInsertAdded(shot, insert, 1, &id);
    CHECK(shot.inserts[0].placing.scale == Vector2d(1, 1));
    // By a quarter turn it lies on itself.
    shot = withInsertEdited(shot, id, [](Insert& i) { i.placing.turn_deg = 90; });
    const InsertSurface carrier = surfaceOf(shot, shot.inserts[0]);
    const auto corners = carrier.corners(shot.inserts[0].placing, 1);
    REQUIRE(corners);
    CHECK(((*corners)[0] - Vector2d(60, 20)).norm() < 1e-9);
    CHECK(((*corners)[1] - Vector2d(60, 100)).norm() < 1e-9);
    // Art of the plate's own pixels is as wide as the plate has it.
    shot = withClipEdited(shot, shot.inserts[0].clip, [](Clip& clip) { clip.pixelAspect = 2; });
    shot = withInsertFitted(shot, id, Fitting::inside);
    CHECK(shot.inserts[0].placing.scale.y() == Approx(0.5));
}

TEST_CASE("art alone is stored in its tones, whatever the plate's and the file's are") {
    const test::Scratch scratch;
    // Half transparent, 0.6 as shown: by itself its colour is 0.6, of which half is stored where it is multiplied.
    const float shown = 0.6F, light = decodeSrgb(shown), alpha = 0.5F;
    for (const bool linear : {false, true}) {
        Picture premultiplied{8, 8, Picture::Depth::float32, linear, {}, {}};
        premultiplied.floats.assign(3 * 64, alpha * (linear ? light : shown));
        const ImageChannel cover(8, 8, alpha);
        for (const char* name : {"a.####.exr", "a.####.png", "a.####.tif"}) {
            INFO(name << (linear ? " from linear" : " from display"));
            auto writer = FrameWriter::create(scratch / name, 8, 8, {24, 1});
            REQUIRE((*writer)->write(1, premultiplied, cover, AlphaKind::premultiplied, AlphaKind::premultiplied));
            const auto file = frameFile(scratch / name, 1);
            OIIO::ImageSpec wishes;
            wishes.attribute("oiio:UnassociatedAlpha", 1);
            const auto input = OIIO::ImageInput::open(file.string(), &wishes);
            REQUIRE(input);
            std::vector<float> pixels(4 * 64);
            REQUIRE(input->read_image(0, 0, 0, 4, OIIO::TypeDesc::FLOAT, pixels.data()));
            const bool isExr = file.extension() == ".exr", isPng = file.extension() == ".png";
            const float wanted = isExr ? light * alpha : isPng ? shown : shown * alpha;
            CHECK(pixels[0] == Approx(wanted).margin(2e-3));
            CHECK(pixels[3] == Approx(alpha).margin(2e-3));
            // And read by ourselves it is the colour that was shown.
            const auto clip = clipOf(file);
            REQUIRE(clip);
            ArtShelf shelf;
            const auto art = shelf.art(*clip, 1, false);
            REQUIRE(art);
            const Quad quad{Vector2d(0, 0), {8, 0}, {8, 8}, {0, 8}};
            const Layer layer = (*art)->laid(std::span(&quad, 1), 8, 8);
            CHECK(layer.at(4, 4)[0] == Approx(shown * alpha).margin(2e-3));
        }
    }
}

TEST_CASE("screen and overlay stay above zero on bright linear plates, and lose no highlight") {
    const Quad quad{Vector2d(0, 0), {8, 0}, {8, 8}, {0, 8}};
    Picture art{8, 8, Picture::Depth::float32, true, {}, {}};
    const auto over = [&](Blend blend, float colour, float under) {
        art.floats.assign(3 * 64, colour);
        const auto made = Art::create(art, nullptr, AlphaKind::straight, true);
        Picture plate{8, 8, Picture::Depth::float32, true, {}, {}};
        plate.floats.assign(3 * 64, under);
        lay(plate, made->laid(std::span(&quad, 1), 8, 8), blend);
        return plate.floats[3 * 36];
    };
    for (const Blend blend : {Blend::screen, Blend::overlay})
        for (const float under : {0.0F, 0.3F, 1.0F, 1.5F, 4.0F, 60.0F})
            for (const float colour : {0.0F, 0.4F, 1.0F, 1.5F, 20.0F}) {
                INFO(toString(blend) << " of " << colour << " on " << under);
                const float got = over(blend, colour, under);
                CHECK(got >= 0);
                CHECK(got >= under - 1);
                // More light in the art is never less light.
                CHECK(over(blend, colour + 0.01F, under) >= got - 1e-5F);
            }
    // Within 0 to 1 they are the W3C's (Compositing and Blending Level 1, 10.1).
    CHECK(over(Blend::screen, 0.25F, 0.5F) == Approx(0.625));
    CHECK(over(Blend::overlay, 0.25F, 0.5F) == Approx(0.25));
    CHECK(over(Blend::overlay, 0.25F, 0.75F) == Approx(0.625));
}

TEST_CASE("a pixel that is no number makes no spot") {
    Picture art = Picture{32, 32, Picture::Depth::float32, false, {}, {}};
    art.floats.assign(3 * 32 * 32, 0.5F);
    for (const int pixel : {0, 5 * 32 + 7, 6 * 32 + 7, 1023})
        art.floats[3 * std::size_t(pixel)] =
            pixel == 0 ? std::numeric_limits<float>::infinity() : std::numeric_limits<float>::quiet_NaN();
    const auto made = Art::create(art, nullptr, AlphaKind::straight, false);
    REQUIRE(made);
    const Quad small{Vector2d(0, 0), {4, 0}, {4, 4}, {0, 4}};
    const Layer layer = made->laid(std::span(&small, 1), 8, 8);
    for (int y = 0; y < 4; ++y)
        for (int x = 0; x < 4; ++x) CHECK(layer.at(x, y)[0] == Approx(0.5F).margin(1e-4));
}

TEST_CASE("a video whose first frames cannot be read is as long as its plate") {
    const test::Scratch scratch;
    auto writer = FrameWriter::create(scratch / "p.####.png", 64, 48, {24, 1});
    for (const int frame : {1, 2, 3, 4, 5, 6}) REQUIRE((*writer)->write(frame, flat(64, 48, std::uint8_t(20 * frame))));
    for (const char* broken : {"p.0001.png", "p.0002.png", "p.0005.png"}) scratch.write(broken, "no picture");
    const auto plate = Plate::open(scratch / "p.####.png");
    REQUIRE(plate);
    FrameCache frames(*plate);
    std::vector<FrameMap> maps;
    for (int frame = 1; frame <= 6; ++frame) maps.push_back({frame, Eigen::Matrix3d::Identity()});
    const auto report = renderFrames(frames, maps, scratch / "o.mp4");
    REQUIRE(report);
    CHECK(report->frames == 6);
    CHECK(report->missing == std::vector<int>{1, 2, 5});
    const auto video = Plate::open(scratch / "o.mp4");
    REQUIRE(video);
    CHECK((*video)->facts().frameCount() == 6);
    // The third frame stands in for those before it.
    CHECK(std::abs(int((**(*video)->read(1001)).bytes[300]) - 60) < 6);
    CHECK(std::abs(int((**(*video)->read(1006)).bytes[300]) - 120) < 6);
}

TEST_CASE("files that are no pictures of colours are named as what they are") {
    const test::Scratch scratch;
    const auto messageOf = [&](const char* name) {
        const auto clip = clipOf(scratch / name);
        return clip ? std::string("read") : clip.error().message;
    };
    // Depth alone.
    OIIO::ImageSpec depth(8, 8, 1, OIIO::TypeDesc::FLOAT);
    depth.channelnames = {"Z"};
    auto output = OIIO::ImageOutput::create("z.exr");
    REQUIRE(output->open((scratch / "z.exr").string(), depth));
    const std::vector<float> values(64, 3.0F);
    REQUIRE(output->write_image(OIIO::TypeDesc::FLOAT, values.data()));
    REQUIRE(output->close());
    CHECK(messageOf("z.exr").find("holds no colours, but Z") != std::string::npos);
    // A deep picture.
    OIIO::ImageSpec deep(4, 4, 5, OIIO::TypeDesc::HALF);
    deep.channelnames = {"R", "G", "B", "A", "Z"};
    deep.channelformats = {OIIO::TypeDesc::HALF, OIIO::TypeDesc::HALF, OIIO::TypeDesc::HALF, OIIO::TypeDesc::HALF,
                           OIIO::TypeDesc::FLOAT};
    deep.deep = true;
    output = OIIO::ImageOutput::create("deep.exr");
    REQUIRE(output->open((scratch / "deep.exr").string(), deep));
    OIIO::DeepData data;
    data.init(deep);
    REQUIRE(output->write_deep_image(data));
    REQUIRE(output->close());
    CHECK(messageOf("deep.exr").find("is a deep picture") != std::string::npos);
    // Cut off, at every length: its own words, and nothing of the library's.
    write(scratch / "whole.png", {"", OIIO::TypeDesc::UINT8, true, false}, 64);
    std::ifstream file(scratch / "whole.png", std::ios::binary);
    const std::string whole((std::istreambuf_iterator<char>(file)), {});
    for (std::size_t length = 9; length < whole.size(); length += whole.size() / 7) {
        scratch.write("cut.png", whole.substr(0, length));
        CHECK(messageOf("cut.png").find("cut off") != std::string::npos);
    }
    // A head that promises more than any machine holds.
    std::string vast = whole;
    for (int i = 0; i < 8; ++i) vast[std::size_t(16 + i)] = std::string{'\0', '\1', '\x86', '\xa0'}[std::size_t(i % 4)];
    scratch.write("vast.png", vast);
    CHECK(messageOf("vast.png").find("vast.png") != std::string::npos);
    // BMP is a picture too.
    OIIO::ImageSpec plain(8, 8, 3, OIIO::TypeDesc::UINT8);
    output = OIIO::ImageOutput::create("art.bmp");
    REQUIRE(output->open((scratch / "art.bmp").string(), plain));
    const std::vector<std::uint8_t> bytes(192, 90);
    REQUIRE(output->write_image(OIIO::TypeDesc::UINT8, bytes.data()));
    REQUIRE(output->close());
    CHECK(messageOf("art.bmp") == "read");
}

TEST_CASE("an insert whose plane or surface is gone is nowhere, and it is said") {
    Shot shot;
    shot.name = "quay";
    shot.plate.path = "/made/up/plate.####.png";
    shot.plate.width = 160;
    shot.plate.height = 120;
    shot.plate.fps = {24, 1};
    shot.plate.frames = shot.plate.range = {1, 5};
    PlanarTrack plane;
    plane.id = 1;
    plane.name = "board";
    plane.referenceFrame = 1;
    const Quad surface{Vector2d(40, 30), {80, 30}, {80, 60}, {40, 60}};
    plane.outlines = std::vector<Polygon>{{surface.begin(), surface.end()}};
    std::vector<PlaneSample> samples;
    for (int frame = 1; frame <= 5; ++frame) samples.push_back({.frame = frame});
    plane.samples = samples;
    plane.ties = std::vector<PlaneTie>{{1, surface}};
    shot.planes = std::vector<PlanarTrack>{plane};
    shot.nextPlane = 2;
    Insert tint;
    tint.shows = Insert::Shows::colour;
    tint.colour = {1, 1, 1};
    tint.ride = rideOnPlane(1, 1);
    shot = withInsertAdded(shot, tint, 1);
    ArtShelf shelf;
    const Picture plate = flat(160, 120, 100);
    CHECK(composed(insertSceneOf(shot), 2, plate, shelf).bytes != plate.bytes);
    for (const Shot& without : {withPlaneRemoved(shot, 1), withSurfaceRemoved(shot, 1)}) {
        const InsertScene scene = insertSceneOf(without);
        for (const auto lost : {Insert::Lost::ends, Insert::Lost::holds, Insert::Lost::fades}) {
            const Shot so = withInsertEdited(without, without.inserts[0].id, [&](Insert& i) { i.lost = lost; });
            CHECK(composed(insertSceneOf(so), 2, plate, shelf).bytes == plate.bytes);
        }
        REQUIRE_FALSE(scene.notes.empty());
        CHECK(scene.notes[0].find("tint: ") == 0);
        // Saved and opened it is the same.
        const auto again = parseShot(shotJson(without, "/a.pinion"), "/a.pinion");
        REQUIRE(again);
        CHECK(composed(insertSceneOf(*again), 2, plate, shelf).bytes == plate.bytes);
    }
}

TEST_CASE("it stays and it fades work where the range begins after its track has ended, and before it begins") {
    Shot shot;
    shot.plate.path = "/made/up/plate.####.png";
    shot.plate.width = 160;
    shot.plate.height = 120;
    shot.plate.fps = {24, 1};
    shot.plate.frames = {1, 40};
    for (const auto& [first, last, range] :
         {std::tuple{1, 10, FrameRange{15, 30}}, std::tuple{30, 40, FrameRange{5, 20}}}) {
        Track track = test::placed(first, {50, 50});
        track.id = 1;
        track.name = "p";
        track.referenceFrame = first;
        std::vector<Sample> samples;
        for (int frame = first; frame <= last; ++frame)
            samples.push_back({.frame = frame, .at = Vector2d(50 + frame, 50)});
        track.samples = samples;
        shot.tracks = std::vector<Track>{track};
        shot.plate.range = {1, 40};
        Insert tint;
        tint.shows = Insert::Shows::colour;
        tint.ride = rideOnTracks({1}, first);
        shot.inserts = {};
        InsertId id = 0;
        Shot with = withInsertAdded(shot, tint, first, &id);
        with.plate.range = range;
        const InsertSurface carrier = surfaceOf(with, with.inserts[0]);
        CHECK_FALSE(carrier.at(range.first));
        REQUIRE(carrier.at(range.first, true));
        CHECK(carrier.away(range.first) > 0);
    }
}

TEST_CASE("a matte of pictures that is missing, of another size or moved is said, and is found beside the shot") {
    const test::Scratch scratch;
    std::filesystem::create_directories(scratch / "shot/mattes");
    auto writer = FrameWriter::create(scratch / "shot/mattes/m.####.png", 32, 24, {24, 1});
    for (const int frame : {1, 2, 4}) REQUIRE((*writer)->write(frame, ImageChannel(32, 24, 1.0F)));
    Shot shot;
    shot.name = "quay";
    shot.plate.path = scratch / "shot/plate.####.png";
    shot.plate.width = 32;
    shot.plate.height = 24;
    shot.plate.fps = {24, 1};
    shot.plate.frames = shot.plate.range = {1, 4};
    Matte matte;
    matte.name = "crane";
    matte.pictures = matteSequence(scratch / "shot/mattes/m.####.png");
    shot = withMatteAdded(shot, matte);
    CHECK(mattesReport(shot).message.find("crane: it covers nothing on 3: there is no picture") != std::string::npos);
    const auto file = scratch / "shot/quay.pinion";
    REQUIRE(saveShot(shot, file));
    // The folder moves, and the shot with it.
    std::filesystem::rename(scratch / "shot", scratch / "moved");
    auto opened = loadShot(scratch / "moved/quay.pinion");
    REQUIRE(opened);
    REQUIRE(opened->mattes[0].pictures->at(2));
    CHECK(opened->mattes[0].pictures->at(2)->values[0] == Approx(1));
    // Of another size, and gone.
    Shot wide = *opened;
    wide.plate.width = 64;
    CHECK(mattesReport(wide).message.find("are 32x24, the plate is 64x24") != std::string::npos);
    std::filesystem::remove_all(scratch / "moved/mattes");
    opened = loadShot(scratch / "moved/quay.pinion");
    REQUIRE(opened);
    CHECK(mattesReport(*opened).state == StageState::attention);
    CHECK(mattesReport(*opened).message.find("crane: its pictures cannot be read") != std::string::npos);
    // An insert that they hold out says so too.
    Insert tint;
    tint.shows = Insert::Shows::colour;
    tint.heldOut = std::vector<MatteId>{1};
    const InsertScene scene = insertSceneOf(withInsertAdded(*opened, tint, 1));
    REQUIRE_FALSE(scene.notes.empty());
    CHECK(scene.notes[0].find("its pictures cannot be read") != std::string::npos);
}

TEST_CASE("what a filter gave beyond white and black is no change when it comes back cut off") {
    // A plate of ten bits: floats as shown, with edges that a sharp filter overshoots.
    Picture plate{64, 48, Picture::Depth::float32, false, {}, {}};
    for (int y = 0; y < 48; ++y)
        for (int x = 0; x < 64; ++x)
            for (int c = 0; c < 3; ++c) plate.floats.push_back((x / 5 + y / 7) % 2 ? 1.0F : 0.0F);
    Eigen::Matrix3d moved = Eigen::Matrix3d::Identity();
    moved(0, 2) = 0.4;
    moved(1, 2) = 0.3;
    const Picture given = warped(plate, moved, ResampleFilter::lanczos, EdgeMode::held);
    CHECK(*std::max_element(given.floats.begin(), given.floats.end()) > 1.01F);
    Picture file = given;
    for (float& value : file.floats) value = std::round(std::clamp(value, 0.0F, 1.0F) * 65535) / 65535;
    const PutBack untouched = putBack(plate, given, file, moved, {.filter = ResampleFilter::lanczos});
    CHECK(untouched.changed == 0);
    CHECK(untouched.picture.floats == plate.floats);
    // A stroke is a change all the same.
    file.floats[3 * (20 * 64 + 30)] = 0.5F;
    CHECK(putBack(plate, given, file, moved, {.filter = ResampleFilter::lanczos}).changed > 0);
}

TEST_CASE("the alpha of videos that have one is read, and laid as it is told") {
    const test::Scratch scratch;
    struct Kind {
        const char* name;
        const char* codec;
        AVPixelFormat format;
        std::optional<AlphaKind> told;
    };
    for (const Kind& kind :
         {Kind{"a.mov", "prores_ks", AV_PIX_FMT_YUVA444P10LE, {}}, Kind{"b.mov", "qtrle", AV_PIX_FMT_ARGB, {}},
          Kind{"c.webm", "libvpx-vp9", AV_PIX_FMT_YUVA420P, AlphaKind::straight}}) {
        INFO(kind.name);
        test::makeAlphaVideo(scratch / kind.name, kind.codec, kind.format);
        const auto clip = clipOf(scratch / kind.name);
        INFO((clip ? std::string() : clip.error().message));
        REQUIRE(clip);
        CHECK(clip->hasAlpha);
        CHECK(clip->alpha == kind.told);
        if (!kind.told) CHECK_FALSE(alphaKindOf(*clip));
        // The left half is clear, the right half solid, on every frame and in any order.
        const auto plate = Plate::open(clip->path);
        REQUIRE(plate);
        for (const int frame : {1003, 1001, 1002}) {
            const auto alpha = (*plate)->readAlpha(frame);
            REQUIRE(alpha);
            REQUIRE(*alpha);
            CHECK((*alpha)->row(20)[8] < 0.03F);
            CHECK((*alpha)->row(20)[56] > 0.97F);
            REQUIRE((*plate)->read(frame));
        }
    }
}
