#include "shot/ingredients.h"

#include "base/json.h"
#include "camera/object.h"
#include "matte/mattejson.h"
#include "shot/carriers/carriers.h"
#include "shot/file/parts.h"
#include "shot/stages/lensstage.h"

namespace pinion {
namespace {

/// Kept with the samples: an edit of one track of thousands makes the sum of that one anew.
struct SamplesPrint {
    std::uint64_t value;
};

std::uint64_t printOf(const List<Sample>& samples) {
    return samples
        .derived<SamplesPrint>([](const std::vector<Sample>& all) {
            Fingerprint print;
            for (const Sample& sample : all) {
                print.add(sample.frame).add(sample.at.x()).add(sample.at.y());
                if (sample.carried != Eigen::Vector2f(0, 0))
                    print.add(double(sample.carried.x())).add(double(sample.carried.y()));
                if (sample.bridged) print.add(108);
                if (sample.aside) print.add(111);
            }
            return SamplesPrint{print.value()};
        })
        .value;
}

/// Kept with the samples too: there may be a million of them.
std::uint64_t scoresOf(const List<Sample>& samples) {
    struct Scores {
        std::uint64_t value;
    };
    return samples
        .derived<Scores>([](const std::vector<Sample>& all) {
            Fingerprint print;
            for (const Sample& sample : all) print.add(sample.score);
            return Scores{print.value()};
        })
        .value;
}

void add(Fingerprint& print, const Eigen::Vector3d& vector) { print.add(vector.x()).add(vector.y()).add(vector.z()); }

void add(Fingerprint& print, const SolvedFrame& frame) {
    print.add(frame.frame).add(frame.focal_px).add(frame.rms_px).add(frame.tracks);
    add(print, frame.worldFromCamera.translation());
    for (int i = 0; i < 3; ++i) add(print, frame.worldFromCamera.linear().col(i));
}

void add(Fingerprint& print, const SolvedTrack& track) {
    print.add(std::uint64_t(track.track)).add(int(track.role)).add(track.rms_px).add(track.frames);
    if (track.xyz) add(print, *track.xyz);
    if (track.direction) add(print.add(112), *track.direction);
}

void add(Fingerprint& print, const PlaneSample& sample) {
    print.add(sample.frame);
    for (int i = 0; i < 9; ++i) print.add(sample.pose.matrix(i / 3, i % 3));
    add(print, sample.pose.shift);
}

void add(Fingerprint& print, const PlaneTie& tie) {
    print.add(tie.frame);
    for (const Eigen::Vector2d& corner : tie.corners) print.add(corner.x()).add(corner.y());
}

/// The sum over a list, kept with it: asked at every repaint.
template <class Item>
std::uint64_t sumOf(const List<Item>& items) {
    struct Sum {
        std::uint64_t value;
    };
    return items
        .template derived<Sum>([](const std::vector<Item>& all) {
            Fingerprint print;
            for (const Item& item : all) add(print, item);
            return Sum{print.value()};
        })
        .value;
}

}  // namespace

void addTracks(Fingerprint& print, const List<Track>& tracks, AsideTracks aside) {
    for (const Track& track : tracks) {
        if (track.setAside && aside == AsideTracks::leftOut) continue;
        addTrack(print, track);
    }
}

void addTrack(Fingerprint& print, const Track& track) {
    print.add(std::uint64_t(track.id)).add(int(track.samples.size())).add(printOf(track.samples));
}

void addWholeTracks(Fingerprint& print, const List<Track>& tracks) {
    struct Whole {
        std::uint64_t value;
    };
    print.add(tracks
                  .derived<Whole>([](const std::vector<Track>& all) {
                      Fingerprint own;
                      for (const Track& track : all) {
                          addText(own, track.name);
                          own.add(std::uint64_t(track.id)).add(int(track.setAside)).add(printOf(track.samples));
                          own.add(scoresOf(track.samples));
                      }
                      return Whole{own.value()};
                  })
                  .value);
}

void addTrackNames(Fingerprint& print, const List<Track>& tracks) {
    for (const Track& track : tracks) addText(print.add(std::uint64_t(track.id)), track.name);
}

void addText(Fingerprint& print, const std::string& text) {
    print.add(int(text.size()));
    for (const char c : text) print.add(int(c));
}

void addRate(Fingerprint& print, const FrameRate& rate) { print.add(int(rate.numerator)).add(int(rate.denominator)); }

void addPlate(Fingerprint& print, const PlateRef& plate) {
    print.add(plate.width).add(plate.height).add(plate.pixelAspect);
    print.add(plate.range.first).add(plate.range.last);
    addRate(print, plate.fps);
    print.add(plate.times.firstFrame);
    for (const double second : plate.times.seconds) print.add(second);
}

void addLens(Fingerprint& print, const Lens& lens) {
    for (const double value :
         {lens.focal_px, lens.k1, lens.k2, lens.k3, lens.p1, lens.p2, lens.cx, lens.cy, lens.squeeze})
        print.add(value);
    if (!lens.field) return;
    print.add(lens.field->columns()).add(lens.field->rows());
    for (const Eigen::Vector2d& one : lens.field->coefficients()) print.add(one.x()).add(one.y());
}

void addLensInForce(Fingerprint& print, const Shot& shot) {
    const auto lens = lensInForce(shot);
    if (!lens) return;
    addLens(print.add(lens->width).add(lens->height), *lens);
    if (!isOfZoom(shot)) return;
    print.add(shot.solve->k1Slope);
    for (const SolvedFrame& frame : shot.solve->frames) print.add(frame.frame).add(frame.focal_px);
}

void addPlane(Fingerprint& print, const PlanarTrack& plane) {
    print.add(plane.referenceFrame).add(std::uint64_t(plane.samples.size())).add(std::uint64_t(plane.ties.size()));
    if (plane.lens) addLens(print, *plane.lens);
    if (plane.sides)
        for (const Eigen::Vector2d& side : *plane.sides) print.add(side.x()).add(side.y());
    // Without a surface it carries by the box about its outlines.
    for (const Polygon& outline : plane.outlines)
        for (const Eigen::Vector2d& corner : outline) print.add(corner.x()).add(corner.y());
    print.add(sumOf(plane.samples)).add(sumOf(plane.ties));
}

void addSolve(Fingerprint& print, const Shot& shot) {
    if (!shot.solve) return;
    const Solve& solve = *shot.solve;
    addLens(print.add(solve.lens.width).add(solve.lens.height), solve.lens);
    print.add(solve.sensorWidth_mm).add(int(solve.motion)).add(int(solve.zoom)).add(solve.k1Slope);
    print.add(solve.rms_px).add(solve.heldOutRms_px).add(solve.used).add(int(solve.inMetres));
    print.add(solve.focalDeviation_mm.value_or(-1)).add(sumOf(solve.frames)).add(sumOf(solve.tracks));
    addText(print, solve.doubt);
    if (solve.readout.isRolling()) print.add(114).add(solve.readout.share).add(int(solve.readout.columns));
}

void addObjects(Fingerprint& print, const Shot& shot) {
    for (const ShotObject& object : shot.objects) {
        addText(print.add(115), object.name);
        if (!object.solve) continue;
        print.add(int(object.solve->scale));
        for (const ObjectFrame& frame : object.solve->frames) {
            print.add(frame.frame);
            for (int i = 0; i < 12; ++i) print.add(frame.worldFromObject.matrix()(i / 4, i % 4));
        }
        for (const ObjectPoint& point : object.solve->points) add(print.add(std::uint64_t(point.track)), point.xyz);
    }
}

void addWorld(Fingerprint& print, const Shot& shot) {
    const World& world = shot.world;
    print.add(int(world.ground.size()));
    for (const TrackId id : world.ground) print.add(std::uint64_t(id));
    if (world.origin) print.add(113).add(std::uint64_t(*world.origin));
    for (const World::Measure& measure : world.measures)
        print.add(std::uint64_t(measure.from)).add(std::uint64_t(measure.to)).add(measure.length_m);
    if (world.height_m) print.add(114).add(*world.height_m);
    if (world.facing) print.add(115).add(std::uint64_t(world.facing->from)).add(std::uint64_t(world.facing->to));
    if (!world.wall.isEmpty()) print.add(116);
    for (const TrackId id : world.wall) print.add(std::uint64_t(id));
    if (world.turn_deg != 0) print.add(117).add(world.turn_deg);
    if (world.flipped) print.add(120);
    addSolve(print, shot);
}

void addScene(Fingerprint& print, const Shot& shot) {
    Shot alone;
    alone.scene = shot.scene;
    addText(print, partText(scenePart(), alone));
}

void addMattes(Fingerprint& print, const Shot& shot) {
    print.add(shot.plate.range.first).add(shot.plate.range.last).add(shot.plate.width).add(shot.plate.height);
    addPart(print, shot.mattes,
            [](const List<Matte>& mattes) { return jsonfile::dumped(mattesValue(mattes.vector())); });
    for (const Matte& matte : shot.mattes)
        if (matte.ride) addRide(print, shot, *matte.ride);
}

}  // namespace pinion
