#pragma once

// The search for the lens that makes lines straight; used by lines.cpp alone.

#include "lens/lens.h"

#include <Eigen/Core>
#include <optional>
#include <span>
#include <vector>

namespace pinion::straightening {

/// What is free, in the order of the parameters. Radial terms count in half diagonals, so that all are of one size.
enum class Term { k1, k2, k3, cx, cy };
using Terms = std::vector<Term>;

double& valueOf(Lens& lens, Term term);
inline bool isAxis(Term term) { return term == Term::cx || term == Term::cy; }

/// By how much a term is moved to see what it does.
inline double stepOf(Term term) { return isAxis(term) ? 0.01 : 1e-5; }

/// The direction of least spread, and the middle along it.
struct Straight {
    Eigen::Vector2d normal{0, 0};
    double distance = 0;
};
Straight straightThrough(std::span<const Eigen::Vector2d> points, std::span<const double> weights);

/// One line while its lens is looked for.
struct Line {
    std::vector<Eigen::Vector2d> points;
    std::vector<double> weights;  ///< of the places
    double weight = 1;            ///< of the whole line
    bool apart = false;           ///< it does not agree with the others, and stays out
};

/// The distances of a line's places from straight through the lens, in pixels of the plate, signed. False where the
/// lens has no answer.
bool distances(const Lens& lens, const Line& line, std::vector<double>& out);

double rmsOf(const std::vector<double>& errors);

/// The search for one set of terms.
class Straightening {
public:
    explicit Straightening(std::vector<Line> lines) : lines_(std::move(lines)) {}

    std::vector<Line>& lines() { return lines_; }
    const std::vector<Line>& lines() const { return lines_; }

    /// What the terms are drawn to their usual sizes with.
    void setNoise(double noise) { noise_ = noise; }
    void freeAxis() { axisIsFree_ = true; }

    /// All weighted errors in a row, at the end what is unusual of the lens; none where it has no answer for a place.
    std::optional<Eigen::VectorXd> errors(const Lens& lens) const;

    /// The lowest sum of squares from `lens` on (Levenberg and Marquardt), with the weights as they stand.
    Lens adjusted(Lens lens, const Terms& terms) const;

    /// d error / d term, by central differences.
    std::optional<Eigen::MatrixXd> jacobian(const Lens& lens, const Terms& terms) const;

    std::optional<Eigen::MatrixXd> covariance(const Lens& lens, const Terms& terms, double variance) const;

    /// Fits, and finds by it which places and lines do not belong; several times over. Gives the noise as well.
    Lens settled(Lens lens, const Terms& terms, double curvedFactor, double& noise);

    /// A line that alone bends the lens hides among the others: it is found by what they say without it. Gives the lens
    /// without such lines.
    Lens unmasked(Lens lens, const Terms& terms, double curvedFactor);

    double noiseOf(const Lens& lens) const;

    /// The RMS of the lines that keep straight, a line one vote.
    double usualOf(const Lens& lens) const;

private:
    double reweigh(const Lens& lens, double curvedFactor);

    std::vector<Line> lines_;
    double noise_ = 0.3;
    bool axisIsFree_ = false;
};

}  // namespace pinion::straightening
