#pragma once

#include "camera/bundle.h"
#include "camera/envelope.h"

#include <Eigen/Core>
#include <span>
#include <utility>
#include <vector>

namespace pinion::bundling {

/// The observations of a bundle with their derivatives, grouped by point, and the normal equations with the points
/// eliminated: a block for every pair of cameras that share a point, a border for the lens. A camera's columns: turn,
/// shift (`Places`), focal length (`Zoom`).
template <bool Places, bool Zoom>
class NormalEquations {
public:
    static constexpr int B = 3 + (Places ? 3 : 0) + (Zoom ? 1 : 0);
    using Tall = Eigen::Matrix<double, B, 3, Eigen::RowMajor>;
    using Flat = Eigen::Matrix<double, 3, B, Eigen::RowMajor>;
    using CameraVector = Eigen::Matrix<double, B, 1>;
    using LensRow = Eigen::Matrix<double, 2, Eigen::Dynamic, 0, 2, int(kLensTerms)>;
    using LensCross = Eigen::Matrix<double, 3, Eigen::Dynamic, 0, 3, int(kLensTerms)>;

    NormalEquations(const Bundle& bundle, const BundleOptions& options);

    Eigen::Index lensCount() const { return Eigen::Index(terms_.size()); }
    Eigen::Index size() const { return Eigen::Index(cameras_) * B + lensCount(); }
    const std::vector<LensTerm>& terms() const { return terms_; }
    const Eigen::Matrix<double, 4, 3>& tangent(std::size_t point) const { return tangents_[point]; }
    const Eigen::Matrix3d& pointInverse(std::size_t point) const { return pointInverses_[point]; }
    Envelope emptyMatrix() const { return Envelope(B, first_, int(lensCount())); }

    /// The robust cost; with `derivatives`, everything `reduce` needs.
    double linearise(const Bundle& bundle, bool derivatives);

    /// The reduced system with `damping` times the diagonals added. `right`: cameras, then lens.
    void reduce(double damping, Envelope& matrix, Eigen::VectorXd& right);

    /// The points' steps, in their tangents, once cameras and lens are known; also what the cost should fall by.
    std::vector<Eigen::Vector3d> pointSteps(const Eigen::VectorXd& steps, double damping,
                                            const Eigen::VectorXd& gradient, double& predicted) const;

    /// Gives each point of `moved`, whose cameras and lens have taken their step, the best of its own step, a part of
    /// it, and none; then a few steps of its own there (embedded point iterations: Jeong et al. 2010). One point that
    /// overshoots, or a valley that bends, then does not spoil the step of all.
    void settlePoints(Bundle& moved, const Bundle& before, const std::vector<Eigen::Vector3d>& steps) const;

    /// Fills `gradient()`; part of `linearise` would double its cost when only the cost is wanted.
    void collectGradient();
    /// -J^T r of cameras and lens, before the points are eliminated.
    Eigen::VectorXd gradient() const { return gradient_; }

    /// byCamera^T byPoint of all observations of a point, a camera each, rising.
    std::vector<std::pair<int, Tall>> crossOf(std::size_t p) const;
    const LensCross& lensCross(std::size_t p) const { return pointLens_[p]; }

private:
    /// How an error follows a camera.
    struct Part {
        int camera = 0;
        Eigen::Matrix<double, 2, B> byCamera;
    };
    struct Row {
        int parts = 1;  ///< a row that is read between frames follows several cameras
        Eigen::Vector2d residual;
        Eigen::Matrix<double, 2, 3> byPoint;
        LensRow byLens;
    };
    std::span<const Part> partsOf(std::size_t row) const {
        return {parts_.data() + row * partsPerRow_, std::size_t(rows_[row].parts)};
    }
    /// What `eliminate` and its like need room for.
    struct Crossed {
        std::vector<int> cameras;        ///< rising
        std::vector<std::size_t> slots;  ///< of each part of the point's rows, into `cameras`
        std::vector<double> cross, solved;
    };
    void collectCross(std::size_t p, Crossed& crossed) const;

    void clear(std::size_t row, std::size_t camera);
    /// The derivatives by the frames that a row's pose lies between; `factor` is what the loss makes of them.
    void takeRolling(std::size_t row, const Projection& projection, const RowPoses::Slopes& slopes, const Pose& pose,
                     double rowPlace, double focalByTime, const Eigen::Matrix2d& factor);

    /// One known thing that is linear near here: weight * (value + slope * step), over some rows of the reduced system.
    struct Known {
        double residual = 0;
        std::vector<std::pair<Eigen::Index, double>> slope;
    };

    static Eigen::Index column(std::size_t camera, int c) { return Eigen::Index(camera) * B + c; }
    double linearisePriors(const Bundle& bundle, bool derivatives);
    void addPriors(Envelope& matrix, Eigen::VectorXd& right, Eigen::VectorXd& diagonal);

    void eliminate(std::size_t p, double damping, Envelope& matrix, Eigen::VectorXd& right, Eigen::VectorXd& diagonal,
                   Crossed& crossed);

    const BundleOptions& options_;
    std::size_t cameras_;
    std::vector<LensTerm> terms_;
    std::vector<int> first_;
    std::vector<std::size_t> starts_, order_;
    std::vector<Row> rows_;
    std::size_t partsPerRow_ = 1;
    std::vector<Part> parts_;  ///< `partsPerRow_` a row
    std::vector<Eigen::Matrix3d> pointBlocks_, pointInverses_;
    std::vector<LensCross> pointLens_;
    std::vector<Eigen::Vector3d> pointRights_;
    std::vector<Eigen::Matrix<double, 4, 3>> tangents_;
    std::vector<Known> known_;
    Eigen::VectorXd gradient_, diagonal_;
};

extern template class NormalEquations<true, true>;
extern template class NormalEquations<true, false>;
extern template class NormalEquations<false, true>;
extern template class NormalEquations<false, false>;

/// Calls `work` with the kind of equations that fit the bundle, as `work.template operator()<Places, Zoom>()`.
template <class Work>
auto withShape(const Bundle& bundle, const BundleOptions& options, Work&& work) {
    if (options.freePlaces)
        return bundle.isZoom() ? work.template operator()<true, true>() : work.template operator()<true, false>();
    return bundle.isZoom() ? work.template operator()<false, true>() : work.template operator()<false, false>();
}

}  // namespace pinion::bundling
