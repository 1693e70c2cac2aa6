#include "jobs/standing.h"

#include "comp/insert.h"
#include "comp/keying.h"
#include "planar/surface.h"
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
    standIn.file = file.clip.path;
    standIn.card.key = standIn.kind == StandInKind::card ? file.key : std::nullopt;
    const double ratio = ratioOf(file.clip);
    standIn.stance.size.x() = standIn.stance.size.y() * ratio;
    standIn.keys = standIn.keys.edited([&](auto& keys) {
        for (StanceKey& key : keys) key.stance.size.x() = key.stance.size.y() * ratio;
    });
    return standIn;
}

Expected<StandReport> runStand(FrameCache& frames, const FrameRange& range, const Solve& solve,
                               const Orientation& orientation, const SceneLook& look,
                               const std::filesystem::path& pattern, const StandOptions& options,
                               const Progress& progress) {
    const PlateFacts& facts = frames.facts();
    if (solve.lens.width != facts.width || solve.lens.height != facts.height)
        return failure(Fault::input, "the camera is for {}x{}, the plate is {}x{}", solve.lens.width, solve.lens.height,
                       facts.width, facts.height);
    if (std::all_of(look.standIns.begin(), look.standIns.end(), [](const StandIn& one) { return one.hidden; }))
        return failure(Fault::input, "nothing stands in the scene: put something there first");
    StandReport report;
    std::vector<int> numbers;
    for (int frame = range.first; frame <= range.last; ++frame) {
        numbers.push_back(frame);
        if (!solvedFrameAt(solve, frame)) report.unsolved.push_back(frame);
    }
    if (report.unsolved.size() == numbers.size())
        return failure(Fault::input, "the camera has none of the frames {}-{}", range.first, range.last);
    const SceneRenderer renderer(look);
    report.problems = renderer.troubles();
    ArtShelf shelf;
    const auto made = [&](const Picture& picture, std::size_t i) -> Expected<WriteFrame> {
        Layer layer;
        if (const auto eye = WorldEye::of(solve, orientation, numbers[i])) {
            const PixelBox box = boxOfScene(look, *eye, numbers[i], facts.width, facts.height);
            if (box.width() > 0 && box.height() > 0)
                layer = renderer
                            .frame(*eye, numbers[i],
                                   {.box = box,
                                    .linear = picture.linear,
                                    .samples = options.samples,
                                    .fps = facts.fps,
                                    .shelf = &shelf},
                                   &report.problems)
                            .layer;
        }
        if (!options.alone) {
            Picture over = picture;
            lay(over, layer, Blend::over);
            return writingOf(std::move(over));
        }
        InsertAlone alone(facts.width, facts.height, picture.linear);
        alone.add(layer);
        return [made = std::move(alone)](FrameWriter& writer, int number) {
            return writer.write(number, made.picture, made.alpha, AlphaKind::premultiplied, AlphaKind::premultiplied);
        };
    };
    auto render = renderMade(frames, numbers, pattern, {.quality = options.quality}, made, progress);
    if (!render) return tl::unexpected(render.error());
    report.render = *std::move(render);
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
