#include "lens/lines.h"

#include "base/linear.h"
#include "lens/straightening.h"

#include <Eigen/Geometry>
#include <Eigen/LU>
#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>
#include <optional>

namespace pinion {
namespace {

constexpr double kSameLine_px = 0.1;  // clicks of a line that is drawn twice
constexpr double kToAndFro_px = 8;    // that clicks along one edge lie from a smooth curve: no hand is so unsure
constexpr double kHardly = 0.7;       // of a line's bend is left: the lens does not straighten it
constexpr double kUnsure = 0.1;       // of the width: a border that is less sure is not known

using namespace straightening;

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::Vector2d;

constexpr double kSame_px = 0.5;                   // places nearer than this are one
constexpr double kOneTerm = 4.0, kTwoTerms = 6.0;  // noise variances that chance gains once in 20 times

constexpr double kBorder = 0.02;      // of the width: what a lens may be unsure of at the border by its own terms
constexpr double kMostK2 = 0.4;       // in half diagonals
constexpr double kUnknownK1 = 0.035;  // in half diagonals: less sure than that, lines say nothing

/// What the lines cover.
struct Cover {
    double farthest = 0;     ///< from the middle, of the half diagonal
    bool oneWay = false;     ///< all in about one direction
    double leastAngle = 90;  ///< degrees: how far the directions spread
};

Cover coverOf(const std::vector<Line>& lines, const LinesOptions& options) {
    Cover cover;
    const Vector2d middle(options.width / 2.0, options.height / 2.0);
    double cosines = 0, sines = 0;
    for (const Line& line : lines) {
        for (const Vector2d& p : line.points)
            cover.farthest = std::max(cover.farthest, (p - middle).norm() / middle.norm());
        const Vector2d along = line.points.back() - line.points.front();
        // Directions without a sign: twice the angle (Mardia 1972).
        const double twice = 2 * std::atan2(along.y(), along.x());
        cosines += std::cos(twice);
        sines += std::sin(twice);
    }
    const double together = std::hypot(cosines, sines) / double(lines.size());
    cover.oneWay = together > 0.9;
    cover.leastAngle = 0.5 * std::acos(std::clamp(together, 0.0, 1.0)) * 180 / std::numbers::pi;
    return cover;
}

/// By how much errors that follow each other along a line make the answer less sure: 1 + 2 times the sum of their
/// autocorrelations.
double lastingOf(const Straightening& fit, const Lens& lens) {
    std::array<double, 11> sums{}, counts{};
    std::vector<double> own;
    for (const Line& line : fit.lines()) {
        if (line.weight < 0.5 || line.points.size() < 8 || !distances(lens, line, own)) continue;
        for (std::size_t lag = 0; lag < std::min<std::size_t>(sums.size(), own.size() / 2); ++lag)
            for (std::size_t i = 0; i + lag < own.size(); ++i) {
                sums[lag] += own[i] * own[i + lag] * line.weights[i];
                ++counts[lag];
            }
    }
    if (counts[0] < 30 || !(sums[0] > 0)) return 1;
    double total = 1;
    for (std::size_t lag = 1; lag < sums.size() && counts[lag] > 10; ++lag) {
        const double correlation = (sums[lag] / counts[lag]) / (sums[0] / counts[0]);
        if (correlation < 0.1) break;
        total += 2 * correlation;
    }
    return total;
}

/// The places without those that lie on one another.
std::vector<Vector2d> apart(const std::vector<Vector2d>& points) {
    std::vector<Vector2d> kept;
    for (const Vector2d& p : points)
        if (std::none_of(kept.begin(), kept.end(), [&](const Vector2d& q) { return (p - q).norm() < kSame_px; }))
            kept.push_back(p);
    return kept;
}

Expected<std::vector<Line>> linesOf(std::span<const StraightLine> given, const LinesOptions& options) {
    if (given.empty()) return failure(Fault::outcome, "there are no lines; draw some along what is straight in life");
    std::vector<Line> lines;
    for (std::size_t i = 0; i < given.size(); ++i) {
        const auto where = [&] { return fmt::format("line {} (frame {})", i + 1, given[i].frame); };
        for (const Vector2d& p : given[i].points) {
            if (!p.allFinite()) return failure(Fault::input, "{}: a place is not a finite number", where());
            if (p.x() < -1 || p.y() < -1 || p.x() > options.width + 1 || p.y() > options.height + 1)
                return failure(Fault::input, "{}: ({:.1f}, {:.1f}) lies outside the plate of {}x{}", where(), p.x(),
                               p.y(), options.width, options.height);
        }
        Line line;
        line.points = apart(given[i].points);
        if (line.points.size() < 3)
            return failure(Fault::outcome,
                           "{}: has {} places apart from each other; three show a bend, more are better", where(),
                           line.points.size());
        line.weights.assign(line.points.size(), 1.0);
        lines.push_back(std::move(line));
    }
    return lines;
}

/// The k1 from which the search starts: the one that most lines agree on, with as much of k2 as keeps the picture from
/// folding over.
Lens firstGuess(const Straightening& fit, Lens lens) {
    double best = 1e300;
    Lens found = lens;
    std::vector<double> own;
    for (double k1 = -0.45; k1 <= 0.6; k1 += 0.015) {
        lens.k1 = k1;
        lens.k2 = k1 < 0 ? 0.5 * k1 * k1 : 0;
        double badness = 0;
        for (const Line& line : fit.lines()) {
            const double rms = distances(lens, line, own) ? rmsOf(own) : 1e3;
            badness += double(line.points.size()) * std::log1p(rms * rms);
        }
        if (badness < best) {
            best = badness;
            found = lens;
        }
    }
    return found;
}

struct Fit {
    Lens lens;
    Terms terms;
    double squares = 0;
    double noise = 0;
};

/// The same weights for all sets of terms, so that their squares can be compared.
Fit fitted(const Straightening& fit, const Lens& from, const Terms& terms) {
    Fit result{fit.adjusted(from, terms), terms};
    const auto errors = fit.errors(result.lens);
    result.squares = errors ? errors->squaredNorm() : 1e300;
    return result;
}

Terms withAxis(Terms terms) {
    terms.push_back(Term::cx);
    terms.push_back(Term::cy);
    return terms;
}

std::string wordsOf(const Terms& terms) {
    std::string words;
    for (const Term term : terms) {
        if (term == Term::cy) continue;
        constexpr std::array<const char*, 4> names{"k1", "k2", "k3", "axis"};
        words += (words.empty() ? "" : ", ") + std::string(names[std::size_t(term)]);
    }
    return words;
}

/// Which terms the lines support.
class Choice {
public:
    Choice(const Straightening& fit, const LinesOptions& options, const Cover& cover, double variance)
        : fit_(fit), options_(options), cover_(cover), variance_(variance) {}

    Fit made(const Lens& settled) {
        settled_ = settled;
        Lens from = settled;
        from.k2 = 0;
        Terms terms{Term::k1};
        if (options_.terms == LineTerms::k1k2 || options_.terms == LineTerms::k1k2k3) terms.push_back(Term::k2);
        if (options_.terms == LineTerms::k1k2k3) terms.push_back(Term::k3);
        if (options_.axis == LineAxis::free) terms = withAxis(terms);
        Fit best = fitted(
            fit_, options_.terms == LineTerms::k1 || options_.terms == LineTerms::automatic ? from : settled, terms);
        if (options_.terms == LineTerms::automatic) best = tried(best, {Term::k2}, "k2", kOneTerm);
        if (options_.axis == LineAxis::automatic) {
            if (cover_.oneWay) words_ += "; the lines all run one way, so the axis stays in the middle";
            else best = tried(best, {Term::cx, Term::cy}, "the axis", kTwoTerms);
            // With the axis in its place k2 may be worth it.
            if (options_.terms == LineTerms::automatic && best.terms.size() == 3)
                best = tried(best, {Term::k2}, "k2 then", kOneTerm);
        }
        return best;
    }
    /// With k2, however little the lines say of it: a strong barrel by k1 alone folds over before the corner.
    Fit withK2(const Fit& simple) {
        Terms terms = simple.terms;
        terms.push_back(Term::k2);
        std::sort(terms.begin(), terms.end());
        words_ += "; k2 taken after all: k1 alone would fold the corners over";
        Fit best = fitted(fit_, settled_, terms);
        // Still folding: as much more of it as the corners need.
        for (double k2 = best.lens.k2; !checkLens(best.lens) && k2 < kMostK2; k2 += 0.004) {
            Lens from = best.lens;
            from.k2 = k2;
            best.lens = fit_.adjusted(from, simple.terms);
        }
        return best;
    }
    std::string words() const { return words_.empty() ? "as asked" : words_.substr(2); }

private:
    Fit tried(const Fit& simple, const Terms& more, const char* name, double limit) {
        Terms terms = simple.terms;
        terms.insert(terms.end(), more.begin(), more.end());
        std::sort(terms.begin(), terms.end());
        Fit rich = fitted(fit_, simple.lens, terms);
        // A strong barrel has no answer for the corners without k2.
        if (Fit other = fitted(fit_, settled_, terms); other.squares < rich.squares) rich = other;
        const double gain = (simple.squares - rich.squares) / variance_;
        const bool taken = gain > limit && isSensible(rich.lens);
        words_ += fmt::format("; {} {}: it lowers the squares by {:.1f} noise variances ({:.1f} would be chance)", name,
                              taken ? "taken" : "left out", std::clamp(gain, 0.0, 99999.0), limit);
        return taken ? rich : simple;
    }
    /// The axis on the plate's inner half, and no fold within the frame.
    bool isSensible(const Lens& lens) const {
        return std::abs(lens.cx - options_.width / 2.0) < options_.width / 6.0 &&
               std::abs(lens.cy - options_.height / 2.0) < options_.height / 6.0 && checkLens(lens).has_value();
    }

    const Straightening& fit_;
    const LinesOptions& options_;
    const Cover& cover_;
    double variance_;
    Lens settled_;
    std::string words_;
};

/// Those that were taken and those that were looked at.
Terms allTerms(Terms terms, const LinesOptions& options) {
    const auto add = [&](Term term) {
        if (std::find(terms.begin(), terms.end(), term) == terms.end()) terms.push_back(term);
    };
    if (options.terms == LineTerms::automatic) add(Term::k2);
    if (options.axis == LineAxis::automatic) {
        add(Term::cx);
        add(Term::cy);
    }
    std::sort(terms.begin(), terms.end());
    return terms;
}

/// How far the mapping moves on the frame's border for one deviation of the terms.
double borderDeviation(const Lens& lens, const Terms& terms, const MatrixXd& covariance) {
    double worst = 0;
    for (const double x : {0.0, 0.5, 1.0})
        for (const double y : {0.0, 0.5, 1.0}) {
            const Vector2d at(x * lens.width, y * lens.height);
            MatrixXd slopes(2, Index(terms.size()));
            for (std::size_t t = 0; t < terms.size(); ++t) {
                const double step = stepOf(terms[t]);
                Lens up = lens, down = lens;
                valueOf(up, terms[t]) += step;
                valueOf(down, terms[t]) -= step;
                const auto above = undistortedFromPlate(up, at), below = undistortedFromPlate(down, at);
                if (!above || !below) return 1e9;
                slopes.col(Index(t)) = (*above - *below) / (2 * step);
            }
            worst = std::max(worst, (slopes * covariance * slopes.transpose()).trace());
        }
    return std::sqrt(worst);
}

void warn(LinesLens& result, const Cover& cover, std::size_t lines) {
    const auto say = [&](std::string words) { result.warnings.push_back(std::move(words)); };
    if (lines == 1) say("one line alone: nothing checks that it is straight in life");
    else if (cover.oneWay) say("the lines all run in about one direction; add some across it");
    if (cover.farthest < 0.6)
        say(fmt::format("the lines reach {:.0f} % of the way to the corners; the edges of the frame tell most",
                        100 * cover.farthest));
    if (result.deviations.border_px > 1.5)
        say(fmt::format("the frame's border is sure to {:.1f} px only; add lines near it",
                        result.deviations.border_px));
    const auto curved = std::count_if(result.lines.begin(), result.lines.end(), [](const auto& l) { return l.curved; });
    if (3 * std::size_t(curved) > lines)
        say(fmt::format("{} of {} lines do not agree with the others; which of them are straight in life?", curved,
                        lines));
}

}  // namespace

double bendOf(std::span<const Vector2d> points) {
    if (points.size() < 3) return 0;
    const std::vector<double> weights(points.size(), 1.0);
    const Straight through = straightThrough(points, weights);
    std::vector<double> errors;
    for (const Vector2d& p : points) errors.push_back(through.normal.dot(p) - through.distance);
    return rmsOf(errors);
}

namespace {

Expected<LinesLens> lensOfDistinct(std::span<const StraightLine> given, const LinesOptions& options) {
    auto lines = linesOf(given, options);
    if (!lines) return tl::unexpected(lines.error());
    std::size_t spare = 0;
    for (const Line& line : *lines) spare += line.points.size() - 2;
    if (spare < 3)
        return failure(
            Fault::outcome, "{} with {} places in all say nothing that could be checked; add lines, or places on them",
            lines->size() == 1 ? "one line" : fmt::format("{} lines", lines->size()), spare + 2 * lines->size());
    const Cover cover = coverOf(*lines, options);
    // Counted in half diagonals while it is looked for.
    const double unit = 0.5 * std::hypot(options.width, options.height);
    Lens lens = pinholeLens(options.width, options.height, unit);
    lens.squeeze = options.squeeze;
    Straightening fit(std::move(*lines));
    if (options.axis == LineAxis::free) fit.freeAxis();
    lens = firstGuess(fit, lens);
    double noise = 0;
    const bool rich = spare > 12 && given.size() > 1 && options.terms != LineTerms::k1;
    const Terms richTerms = rich ? Terms{Term::k1, Term::k2} : Terms{Term::k1};
    lens = fit.settled(lens, richTerms, options.curvedFactor, noise);
    lens = fit.unmasked(lens, richTerms, options.curvedFactor);
    lens = fit.settled(lens, richTerms, options.curvedFactor, noise);
    noise = fit.noiseOf(lens);
    const double variance = noise * noise * lastingOf(fit, lens);
    fit.setNoise(std::sqrt(variance));

    Choice choice(fit, options, cover, variance);
    Fit best = choice.made(lens);
    auto covariance = fit.covariance(best.lens, best.terms, variance);
    const bool hasK2 = std::find(best.terms.begin(), best.terms.end(), Term::k2) != best.terms.end();
    if (options.terms == LineTerms::automatic && !hasK2 &&
        !(covariance && borderDeviation(best.lens, best.terms, *covariance) < kBorder * options.width)) {
        best = choice.withK2(best);
        covariance = fit.covariance(best.lens, best.terms, variance);
    }
    if (!covariance) return failure(Fault::outcome, "no lens makes these lines straight; are they straight in life?");

    LinesLens result;
    result.choice = choice.words();
    result.terms = wordsOf(best.terms);
    // Terms that were left out may still be there, unseen: they count for how sure the border is.
    const Terms all = allTerms(best.terms, options);
    const auto wide = fit.covariance(best.lens, all, variance);
    result.deviations.border_px = wide ? borderDeviation(best.lens, all, *wide) : 1e9;
    const auto ofK1 = fit.covariance(best.lens, {Term::k1}, variance);
    if (!(ofK1 && std::sqrt((*ofK1)(0, 0)) < kUnknownK1) || std::abs(best.lens.k1) > 1)
        return failure(
            Fault::outcome,
            "these lines say nothing of the distortion: a line through the middle of the frame stays straight "
            "in every lens; draw lines near the edges");
    const double usual = fit.usualOf(best.lens);
    double before = 0, after = 0;
    std::size_t count = 0;
    std::vector<double> own;
    for (const Line& line : fit.lines()) {
        LineBend bend{.before_px = bendOf(line.points)};
        bend.after_px = distances(best.lens, line, own) ? rmsOf(own) : bend.before_px;
        bend.curved =
            line.apart || (fit.lines().size() >= 3 && bend.after_px > std::max(0.3, options.curvedFactor * usual));
        if (!bend.curved) {
            before += bend.before_px * bend.before_px * double(line.points.size());
            after += bend.after_px * bend.after_px * double(line.points.size());
            count += line.points.size();
        }
        result.lines.push_back(bend);
    }
    result.before_px = count > 0 ? std::sqrt(before / double(count)) : 0;
    result.after_px = count > 0 ? std::sqrt(after / double(count)) : 0;

    // From half diagonals to the focal length: the same bend of the same pixels.
    const double focal = options.focal_px > 0 ? options.focal_px : double(options.width);
    const double ratio2 = std::pow(focal / unit, 2);
    const auto deviationOf = [&](Term term) {
        const auto found = std::find(best.terms.begin(), best.terms.end(), term);
        if (found == best.terms.end()) return 0.0;
        const Index at = found - best.terms.begin();
        return std::sqrt(std::max(0.0, (*covariance)(at, at)));
    };
    result.lens = best.lens;
    result.lens.focal_px = focal;
    result.lens.k1 *= ratio2;
    result.lens.k2 *= ratio2 * ratio2;
    result.lens.k3 *= ratio2 * ratio2 * ratio2;
    result.deviations.k1 = deviationOf(Term::k1) * ratio2;
    result.deviations.k2 = deviationOf(Term::k2) * ratio2 * ratio2;
    result.deviations.k3 = deviationOf(Term::k3) * ratio2 * ratio2 * ratio2;
    result.deviations.axis_px = {deviationOf(Term::cx), deviationOf(Term::cy)};
    if (const auto sound = checkLens(result.lens); !sound)
        return failure(Fault::outcome, "{}; draw more lines near the edges of the frame, or free fewer terms",
                       sound.error().message);
    warn(result, cover, given.size());
    return result;
}

/// Whether both are the same clicks, or nearly.
bool isCopy(const StraightLine& a, const StraightLine& b) {
    if (a.frame != b.frame || a.points.size() != b.points.size()) return false;
    for (std::size_t i = 0; i < a.points.size(); ++i)
        if ((a.points[i] - b.points[i]).norm() > kSameLine_px) return false;
    return true;
}

/// RMS distance across their run from the parabola nearest to them: what no lens makes of a straight line. 0 of fewer
/// than four places.
double scatterOf(std::span<const Vector2d> points) {
    if (points.size() < 4) return 0;
    const Vector2d run = points.back() - points.front();
    if (!(run.norm() > 1)) return 0;
    const Vector2d along = run.normalized(), across(-along.y(), along.x());
    Eigen::MatrixXd terms(Index(points.size()), 3);
    Eigen::VectorXd apart(Index(points.size()));
    for (Index i = 0; i < apart.size(); ++i) {
        const Vector2d place = points[std::size_t(i)] - points.front();
        const double t = along.dot(place) / run.norm();
        terms.row(i) << 1, t, t * t;
        apart[i] = across.dot(place);
    }
    const Eigen::VectorXd left = apart - terms * leastSquares(terms, apart);
    return std::sqrt(left.squaredNorm() / double(apart.size()));
}

}  // namespace

Expected<void> checkPlaces(std::span<const StraightLine> lines, int width, int height) {
    for (std::size_t i = 0; i < lines.size(); ++i) {
        for (const Vector2d& place : lines[i].points)
            if (!(place.x() > -width && place.x() < 2.0 * width && place.y() > -height && place.y() < 2.0 * height))
                return failure(Fault::input, "line {} has a place at ({:.6g}, {:.6g}), outside the plate of {}x{}",
                               i + 1, place.x(), place.y(), width, height);
        if (const double apart = scatterOf(lines[i].points); apart > kToAndFro_px)
            return failure(Fault::input,
                           "line {} goes to and fro by {:.0f} px: click along one edge, from one end to the other",
                           i + 1, apart);
    }
    return {};
}

Expected<LinesLens> lensFromLines(std::span<const StraightLine> given, const LinesOptions& options) {
    // The same line once more is no more evidence.
    std::vector<StraightLine> distinct;
    std::vector<std::size_t> of;
    for (const StraightLine& line : given) {
        std::size_t place = 0;
        while (place < distinct.size() && !isCopy(distinct[place], line)) ++place;
        if (place == distinct.size()) distinct.push_back(line);
        of.push_back(place);
    }
    auto found = lensOfDistinct(distinct, options);
    if (!found) return found;
    // A small board in the middle leaves the border unsure and is straightened all the same; scribbles are neither.
    if (found->deviations.border_px > kUnsure * options.width && found->after_px > kHardly * found->before_px)
        return failure(Fault::outcome,
                       "these lines do not tell the lens: the plate's border would be sure to {:.0f} px only; draw "
                       "longer lines along what is straight, near the edges of the frame",
                       std::min(found->deviations.border_px, 99999.0));
    std::vector<LineBend> bends;
    for (const std::size_t place : of) bends.push_back(found->lines[place]);
    found->lines = std::move(bends);
    if (distinct.size() < given.size())
        found->warnings.push_back(
            fmt::format("{} of the lines are drawn twice and count once", given.size() - distinct.size()));
    return found;
}

}  // namespace pinion
