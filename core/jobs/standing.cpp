#include "jobs/standing.h"

#include "base/files.h"
#include "comp/burnin.h"
#include "comp/insert.h"
#include "comp/keying.h"
#include "jobs/goingon.h"
#include "jobs/lensing.h"
#include "planar/surface.h"
#include "plate/filestamp.h"
#include "render/meshfile.h"
#include "shot/ingredients.h"
#include "track/matcher.h"

#include <algorithm>
#include <mutex>

namespace pinion {

Expected<CardFile> readCard(const std::filesystem::path& path) {
    auto clip = clipOf(path);
    if (!clip) return tl::unexpected(clip.error());
    CardFile file{*std::move(clip), {}};
    if (file.clip.hasAlpha) return file;
    const auto plate = ArtShelf().open(file.clip);
    if (!plate) return tl::unexpected(plate.error());
    const auto picture = (*plate)->read(file.clip.frames.first);
    if (!picture) return tl::unexpected(picture.error());
    file.key = keyOfBacking(**picture);
    return file;
}

StandIn withPictures(StandIn standIn, const CardFile& file) {
    const bool hadSome = standIn.showsPictures() && !standIn.file.empty();
    standIn.file = file.clip.path;
    if (hadSome) return standIn;
    standIn.card.key = standIn.kind == StandInKind::card ? file.key : std::nullopt;
    const double ratio = ratioOf(file.clip);
    standIn.stance.size.x() = standIn.stance.size.y() * ratio;
    standIn.keys = standIn.keys.edited([&](auto& keys) {
        for (StanceKey& key : keys) key.stance.size.x() = key.stance.size.y() * ratio;
    });
    return standIn;
}

void addFilesOf(Fingerprint& print, const SceneLook& look, ArtShelf& shelf) {
    for (const StandIn& one : look.standIns)
        if (one.kind == StandInKind::mesh) print.add(stampOfMesh(one.file));
        else if (const auto clip = one.showsPictures() ? clipOf(one.file) : tl::unexpected(Error{}))
            if (const auto plate = shelf.open(*clip)) print.add(stampOf(**plate, clip->frames));
}

namespace {

/// The same camera without its distortion.
Solve undistortedSolve(const Solve& solve) {
    Solve plain = solve;
    plain.lens = pinholeLens(solve.lens.width, solve.lens.height, solve.lens.focal_px);
    plain.lens.cx = solve.lens.cx;
    plain.lens.cy = solve.lens.cy;
    plain.lens.squeeze = solve.lens.squeeze;
    plain.k1Slope = 0;
    return plain;
}

PixelBox boxAbout(const PixelBox& a, const PixelBox& b) {
    if (a.width() <= 0 || a.height() <= 0) return b;
    if (b.width() <= 0 || b.height() <= 0) return a;
    return {std::min(a.x0, b.x0), std::min(a.y0, b.y0), std::max(a.x1, b.x1), std::max(a.y1, b.y1)};
}

/// The scene on frames, as it was asked for.
class StandFrames {
public:
    StandFrames(const Solve& solve, const Orientation& orientation, const SceneLook& look, const StandOptions& options,
                const PixelBox& box, FrameRate fps)
        : solve_(solve), orientation_(orientation), renderer_(look), options_(options), box_(box), fps_(fps) {}

    std::vector<std::string> troubles() const { return renderer_.troubles(); }

    SceneFrame on(int number, bool linear, std::vector<std::string>* problems) {
        const auto eye = WorldEye::of(solve_, orientation_, number);
        if (!eye) return {};
        const auto instants = instantsOf(*eye, number);
        PixelBox box;
        for (const auto& [part, at] : instants)
            box = boxAbout(box, boxOfScene(renderer_.look(), at, number + part, box_));
        if (box.width() <= 0 || box.height() <= 0) return {};
        SceneWish wish{.box = box,
                       .linear = linear,
                       .samples = std::max(4, options_.samples / int(instants.size())),
                       .fps = fps_,
                       .shelf = &shelf_};
        SceneFrame sum;
        for (const auto& [part, at] : instants) {
            wish.passes = part == 0 && !options_.passes.empty();
            SceneFrame one = renderer_.frame(at, number + part, wish, problems);
            if (wish.passes) sum.passes = std::move(one.passes);
            if (sum.layer.isEmpty()) {
                sum.layer = std::move(one.layer);
                continue;
            }
            for (std::size_t i = 0; i < one.layer.rgba.size(); ++i) sum.layer.rgba[i] += one.layer.rgba[i];
        }
        for (float& value : sum.layer.rgba) value /= float(instants.size());
        return sum;
    }

private:
    /// Parts of a frame over which the shutter is open, an odd number, so that its middle is one: so many that nothing
    /// moves by more than a pixel or so between two.
    std::vector<std::pair<double, WorldEye>> instantsOf(const WorldEye& eye, int number) const {
        constexpr int kMost = 31;
        std::vector<std::pair<double, WorldEye>> instants;
        const double half = 0.5 * options_.shutter;
        const auto from = WorldEye::of(solve_, orientation_, number, -half),
                   to = WorldEye::of(solve_, orientation_, number, half);
        double way = 0;
        if (half > 0 && from && to)
            for (const StandIn& one : renderer_.look().standIns) {
                const auto first = boxCorners(one.kind, one.at(number - half, from->place())),
                           last = boxCorners(one.kind, one.at(number + half, to->place()));
                for (std::size_t i = 0; i < first.size(); ++i)
                    if (const auto a = from->plateFromWorld(first[i]), b = to->plateFromWorld(last[i]); a && b)
                        way = std::max(way, (*b - *a).norm());
            }
        const int count = std::clamp(int(std::ceil(way)), 1, kMost) | 1;
        for (int i = 0; i < count; ++i) {
            const int fromMiddle = i - count / 2;
            if (fromMiddle == 0) instants.emplace_back(0, eye);
            else if (const double part = options_.shutter * fromMiddle / count;
                     auto at = WorldEye::of(solve_, orientation_, number, part))
                instants.emplace_back(part, *std::move(at));
        }
        return instants;
    }

    const Solve& solve_;
    const Orientation& orientation_;
    SceneRenderer renderer_;
    const StandOptions& options_;
    PixelBox box_;
    FrameRate fps_;
    ArtShelf shelf_;
};

/// Colour, alpha and passes as channels of one file, over `box`.
NamedChannels channelsOf(const SceneFrame& frame, const std::vector<ScenePass>& passes, const PixelBox& box) {
    NamedChannels channels{box.width(), box.height(), {"R", "G", "B", "A"}, {}};
    struct Source {
        const std::vector<float>* values;
        std::size_t width;
    };
    std::vector<Source> sources;
    const ScenePasses& own = frame.passes;
    const auto add = [&](const char* layer, std::initializer_list<const char*> names,
                         const std::vector<float>& values) {
        for (const char* name : names) channels.names.push_back(fmt::format("{}.{}", layer, name));
        sources.push_back({&values, names.size()});
    };
    for (const ScenePass pass : passes) {
        const char* word = kScenePasses[std::size_t(pass)];
        if (pass == ScenePass::shadow) add(word, {"A"}, own.shadow);
        if (pass == ScenePass::depth) add(word, {"Z"}, own.depth);
        if (pass == ScenePass::position) add(word, {"X", "Y", "Z"}, own.position);
        if (pass == ScenePass::normal) add(word, {"X", "Y", "Z"}, own.normal);
        if (pass == ScenePass::mask) add(word, {"A"}, own.mask);
    }
    const std::size_t count = channels.names.size();
    channels.values.assign(count * std::size_t(box.width()) * std::size_t(box.height()), 0.0F);
    const PixelBox& in = frame.layer.box;
    if (frame.layer.isEmpty()) return channels;
    for (int y = in.y0; y < in.y1; ++y)
        for (int x = in.x0; x < in.x1; ++x) {
            float* to =
                &channels
                     .values[count * (std::size_t(y - box.y0) * std::size_t(box.width()) + std::size_t(x - box.x0))];
            to = std::copy_n(frame.layer.at(x, y), 4, to);
            const std::size_t from = std::size_t(y - in.y0) * std::size_t(in.width()) + std::size_t(x - in.x0);
            for (const Source& source : sources)
                if (!source.values->empty()) to = std::copy_n(&(*source.values)[source.width * from], source.width, to);
        }
    return channels;
}

Expected<void> checkStand(const Solve& solve, const StandOptions& options, const std::filesystem::path& pattern) {
    if (!options.isAlone() && !options.passes.empty())
        return failure(Fault::input, "passes are of the scene alone: ask for it alone");
    if (!options.passes.empty() && loweredEnding(pattern) != ".exr")
        return failure(Fault::input, "{}: passes are layers of EXR: write a sequence of .exr", pattern.string());
    if (options.manner == SceneManner::undistorted && solve.readout.isRolling())
        return failure(Fault::input,
                       "rows that are read one after the other have no undistorted place: render the "
                       "scene as filmed, and undistort it with the plate");
    return {};
}

/// What the pictures depend on: another key is another render.
std::uint64_t sceneKey(const FrameCache& frames, const FrameRange& range, const Solve& solve,
                       const Orientation& orientation, const SceneLook& look, const StandOptions& options) {
    Shot shot;
    shot.solve = std::shared_ptr<const Solve>(std::shared_ptr<void>(), &solve);
    shot.scene = look;
    shot.sceneWriting = {{}, options.manner, options.passes, options.shutter};
    Fingerprint print;
    addSolve(print, shot);
    addScene(print, shot);
    addText(print, options.name);
    print.add(options.samples).add(orientation.scale);
    for (int i = 0; i < 9; ++i) print.add(orientation.rotation(i / 3, i % 3));
    for (int i = 0; i < 3; ++i) print.add(orientation.translation[i]);
    print.add(stampOf(frames.plate(), range));
    ArtShelf shelf;
    addFilesOf(print, look, shelf);
    return print.value();
}

/// The shot's name, the frame, and what its tracks miss the camera by.
std::array<std::string, 3> reviewWords(const Solve& solve, const std::string& name, int frame) {
    const SolvedFrame* solved = solvedFrameAt(solve, frame);
    return {name, std::to_string(frame),
            !solved              ? "no camera"
            : solved->rms_px > 0 ? fmt::format("{:.2f} px", solved->rms_px)
                                 : std::string()};
}

}  // namespace

Expected<StandReport> runStand(FrameCache& frames, const FrameRange& range, const Solve& solve,
                               const Orientation& orientation, const SceneLook& look,
                               const std::filesystem::path& pattern, const StandOptions& options,
                               const Progress& progress) {
    const PlateFacts& facts = frames.facts();
    if (auto checked = checkStand(solve, options, pattern); !checked) return tl::unexpected(checked.error());
    if (solve.lens.width != facts.width || solve.lens.height != facts.height)
        return failure(Fault::input, "the camera is for {}x{}, the plate is {}x{}", solve.lens.width, solve.lens.height,
                       facts.width, facts.height);
    if (std::all_of(look.standIns.begin(), look.standIns.end(),
                    [](const StandIn& one) { return one.hidden || one.kind == StandInKind::locator; }))
        return failure(Fault::input, "nothing stands in the scene: put something there first");
    StandReport report;
    for (int frame = range.first; frame <= range.last; ++frame)
        if (!solvedFrameAt(solve, frame)) report.unsolved.push_back(frame);
    if (int(report.unsolved.size()) == range.count())
        return failure(Fault::input, "the camera has none of the frames {}-{}", range.first, range.last);
    PixelBox box{0, 0, facts.width, facts.height};
    const bool isUndistorted = options.manner == SceneManner::undistorted;
    if (isUndistorted) {
        const auto grown = undistortedBox(
            LensOverTime{facts.width, facts.height, [&](int frame) { return lensOn(solve, frame); }}, range, {});
        if (!grown) return tl::unexpected(grown.error());
        box = *grown;
    }
    const Solve seen = isUndistorted ? undistortedSolve(solve) : solve;
    StandFrames scene(seen, orientation, look, options, box, facts.fps);
    report.problems = scene.troubles();
    const GoingOn going(pattern, sceneKey(frames, range, solve, orientation, look, options), range);
    const std::vector<int>& numbers = going.open();
    report.kept = going.kept();
    if (numbers.empty()) {
        going.finish();
        return report;
    }
    if (const auto begun = going.begin(); !begun) return tl::unexpected(begun.error());
    const auto made = [&](const Picture& picture, std::size_t i) -> Expected<WriteFrame> {
        // Layers of an EXR are linear.
        const bool linear = picture.linear || !options.passes.empty();
        SceneFrame frame = scene.on(numbers[i], linear, &report.problems);
        if (!options.passes.empty())
            return [made = channelsOf(frame, options.passes, box)](FrameWriter& writer, int number) {
                return writer.write(number, made);
            };
        if (!options.isAlone()) {
            Picture over = picture;
            lay(over, frame.layer, Blend::over);
            if (options.manner == SceneManner::review) burnIn(over, reviewWords(solve, options.name, numbers[i]));
            return writingOf(std::move(over));
        }
        InsertAlone alone(box.width(), box.height(), picture.linear);
        PixelBox& at = frame.layer.box;
        at = {at.x0 - box.x0, at.y0 - box.y0, at.x1 - box.x0, at.y1 - box.y0};
        alone.add(frame.layer);
        return [made = std::move(alone)](FrameWriter& writer, int number) {
            return writer.write(number, made.picture, made.alpha, AlphaKind::premultiplied, AlphaKind::premultiplied);
        };
    };
    RenderOptions writing{.quality = options.quality, .width = box.width(), .height = box.height()};
    if (isUndistorted) writing.window = FrameWindow{facts.width, facts.height, box.x0, box.y0};
    auto render = renderMade(frames, numbers, pattern, writing, made, progress);
    if (!render) return tl::unexpected(going.failed(render.error()));
    report.render = *std::move(render);
    if (!report.render.stopped) going.finish();
    return report;
}

namespace {

constexpr double kLeastScore = 0.75;            // below it is another surface, or something stands before it
constexpr int kLeastSide = 31, kMostSide = 81;  // pixels of the pattern

/// A square of the floor about the foot, as it lies on the plate; none where a corner is out of sight.
std::optional<Quad> floorOn(const WorldEye& eye, const Stance& stance, double half) {
    Quad quad;
    const std::array<Eigen::Vector3d, 4> corners{Eigen::Vector3d(-half, 0, -half), Eigen::Vector3d(half, 0, -half),
                                                 Eigen::Vector3d(half, 0, half), Eigen::Vector3d(-half, 0, half)};
    for (std::size_t i = 0; i < 4; ++i) {
        const auto plate = eye.plateFromWorld(stance.place + corners[i]);
        if (!plate) return std::nullopt;
        quad[i] = *plate;
    }
    return quad;
}

}  // namespace

double FootProof::rms_px() const {
    double squares = 0;
    for (const FootSlide& one : frames) squares += one.slide_px.squaredNorm();
    return frames.empty() ? 0 : std::sqrt(squares / double(frames.size()));
}

const FootSlide& FootProof::worst() const {
    return *std::max_element(frames.begin(), frames.end(), [](const FootSlide& a, const FootSlide& b) {
        return a.slide_px.norm() < b.slide_px.norm();
    });
}

Expected<FootProof> runFootProof(FrameCache& frames, const FrameRange& range, const Solve& solve,
                                 const Orientation& orientation, const Stance& stance, int reference, int count,
                                 const Progress& progress) {
    const auto eye = WorldEye::of(solve, orientation, reference);
    const double half = 0.5 * std::max(stance.size.x(), stance.size.z());
    const auto floor = eye ? floorOn(*eye, stance, half) : std::nullopt;
    const auto foot = eye ? eye->plateFromWorld(stance.place) : std::nullopt;
    const PlateFacts& facts = frames.facts();
    const auto isInside = [&](const Eigen::Vector2d& at) {
        return at.x() > 0 && at.y() > 0 && at.x() < facts.width && at.y() < facts.height;
    };
    if (!floor || !foot || !isInside(*foot))
        return failure(Fault::input, "its foot is not in the picture on frame {}: go to where it is", reference);
    const auto picture = frames.get(reference);
    if (!picture) return tl::unexpected(picture.error());
    const double width = std::max(((*floor)[0] - (*floor)[2]).norm(), ((*floor)[1] - (*floor)[3]).norm());
    const int side = std::clamp(int(width), kLeastSide, kMostSide) | 1;
    const auto matcher = PatternMatcher::create(buildPyramid(**picture), *foot, side, MotionModel::translation);
    if (!matcher)
        return failure(
            Fault::outcome,
            "the surface at its foot has no texture to hold on to, or lies at the border on frame {}: move it "
            "or go to another frame",
            reference);
    FootProof proof{reference, {}, 0};
    const int length = range.last - range.first + 1, step = std::max(1, length / std::max(1, count));
    Eigen::Matrix3d atFoot = Eigen::Matrix3d::Identity();
    atFoot.col(2).head<2>() = *foot;
    for (int frame = range.first; frame <= range.last; frame += step) {
        if (progress.stopped()) return failure(Fault::stopped, "");
        progress.report(double(frame - range.first) / length, fmt::format("frame {}", frame));
        if (frame == reference) continue;
        const auto own = WorldEye::of(solve, orientation, frame);
        const auto now = own ? floorOn(*own, stance, half) : std::nullopt;
        const auto at = own ? own->plateFromWorld(stance.place) : std::nullopt;
        const auto floorMoved = now ? quadFromQuad(*now, *floor) : std::nullopt;
        const auto shown = at && isInside(*at) && floorMoved ? frames.get(frame) : tl::unexpected(Error{});
        if (!shown) {
            ++proof.unseen;
            continue;
        }
        // The foot goes where the camera takes it; the floor about it gives the shape.
        const Eigen::Matrix3d shape = *floorMoved * atFoot;
        const PatternPose start = PatternPose{shape / shape(2, 2)}.movedTo(*at);
        const auto match = matcher->alignPlace(buildPyramid(**shown), start);
        if (match && match->score >= kLeastScore && (match->pose.centre() - *at).norm() <= side)
            proof.frames.push_back({frame, match->pose.centre() - *at, match->score});
        else ++proof.unseen;
    }
    if (proof.frames.empty())
        return failure(Fault::outcome,
                       "the surface at its foot is found again on no other frame: move it where more of "
                       "the floor is seen");
    return proof;
}

}  // namespace pinion
