#include "shot/fingerprint.h"

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

}  // namespace

void addTracks(Fingerprint& print, const List<Track>& tracks, bool withSetAside) {
    for (const Track& track : tracks) {
        if (track.setAside && !withSetAside) continue;
        print.add(std::uint64_t(track.id)).add(int(track.samples.size())).add(printOf(track.samples));
    }
}

void addText(Fingerprint& print, const std::string& text) {
    print.add(int(text.size()));
    for (const char c : text) print.add(int(c));
}

void addLens(Fingerprint& print, const Lens& lens) {
    for (const double value :
         {lens.focal_px, lens.k1, lens.k2, lens.k3, lens.p1, lens.p2, lens.cx, lens.cy, lens.squeeze})
        print.add(value);
    if (!lens.field) return;
    print.add(lens.field->columns()).add(lens.field->rows());
    for (const Eigen::Vector2d& one : lens.field->coefficients()) print.add(one.x()).add(one.y());
}

}  // namespace pinion
