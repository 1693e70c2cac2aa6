#include "camera/envelope.h"

#include "base/parallel.h"
#include "camera/kernels.h"

#include <Eigen/Cholesky>
#include <Eigen/Geometry>
#include <Eigen/LU>
#include <algorithm>

namespace pinion {

using Eigen::Index;
using Eigen::MatrixXd;

namespace {
constexpr int kPanel = 48;  ///< rows that are worked on at once: the products stay in the first cache
}

Envelope::Envelope(int block, const std::vector<int>& first, int border) : block_(block), blocks_(int(first.size())) {
    perPanel_ = std::max(1, kPanel / block);
    panelSize_ = perPanel_ * block;
    const int count = (blocks_ + perPanel_ - 1) / perPanel_;
    firsts_.resize(std::size_t(count));
    below_.resize(std::size_t(count));
    for (int p = 0; p < count; ++p) {
        int least = p;
        for (int i = p * perPanel_; i < std::min(blocks_, (p + 1) * perPanel_); ++i)
            least = std::min(least, first[std::size_t(i)] / perPanel_);
        firsts_[std::size_t(p)] = least;
        for (int c = least; c < p; ++c) below_[std::size_t(c)].push_back(p);
        panels_.emplace_back(Rows::Zero(panelSize_, Index(p - least + 1) * panelSize_));
    }
    for (int row = 0; row < blocks_; ++row) {
        const auto p = std::size_t(row / perPanel_);
        places_.push_back({p, Index(row % perPanel_) * block_ * panels_[p].cols() - Index(firsts_[p]) * panelSize_});
    }
    border_ = Rows::Zero(border, size());
    corner_ = MatrixXd::Zero(border, border);
}

void Envelope::setZero() {
    for (Rows& rows : panels_) rows.setZero();
    border_.setZero();
    corner_.setZero();
}

void Envelope::add(const Envelope& other) {
    for (std::size_t p = 0; p < panels_.size(); ++p) panels_[p] += other.panels_[p];
    border_ += other.border_;
    corner_ += other.corner_;
}

Eigen::Ref<Envelope::Rows, 0, Eigen::OuterStride<>> Envelope::panel(int row, int column) {
    Rows& rows = panels_[std::size_t(row)];
    return rows.middleCols(Index(column - firsts_[std::size_t(row)]) * panelSize_, panelSize_);
}

bool Envelope::factorise() {
    const int count = int(panels_.size());
    // What the last panel has too many keeps the factor going and touches nothing.
    for (Index i = size() - Index(count - 1) * panelSize_; count > 0 && i < panelSize_; ++i)
        panel(count - 1, count - 1)(i, i) = 1;
    const auto subtractLeft = [&](int i, int j) {
        const int from = std::max(firsts_[std::size_t(i)], firsts_[std::size_t(j)]);
        if (from >= j) return;
        const auto rowsFrom = [&](int row, int column) {
            const auto at = std::size_t(row);
            Rows& rows = panels_[at];
            return solving::RowsOf{rows.data() + Index(column - firsts_[at]) * panelSize_, rows.cols()};
        };
        solving::subtractTransposed(rowsFrom(i, j), rowsFrom(i, from), rowsFrom(j, from), panelSize_, panelSize_,
                                    (j - from) * panelSize_);
    };
    for (int j = 0; j < count; ++j) {
        subtractLeft(j, j);
        const Eigen::LLT<MatrixXd> diagonal(panel(j, j));
        if (diagonal.info() != Eigen::Success) return false;
        const MatrixXd lower = diagonal.matrixL();
        panel(j, j) = lower;
        const auto& below = below_[std::size_t(j)];
        parallelFor(
            below.size(),
            [&](std::size_t k) {
                subtractLeft(below[k], j);
                auto block = panel(below[k], j);
                lower.triangularView<Eigen::Lower>().transpose().solveInPlace<Eigen::OnTheRight>(block);
            },
            2);
    }
    if (corner_.rows() == 0) return true;
    // The border: Y = C L^-T, and what is left of the corner.
    for (int j = 0; j < count; ++j) {
        const Index at = Index(j) * panelSize_;
        const Index rows = std::min<Index>(panelSize_, size() - at);
        const int from = firsts_[std::size_t(j)];
        MatrixXd own = border_.middleCols(at, rows);
        if (from < j) {
            const auto left = panels_[std::size_t(j)].leftCols(Index(j - from) * panelSize_).topRows(rows);
            own.noalias() -=
                border_.middleCols(Index(from) * panelSize_, Index(j - from) * panelSize_) * left.transpose();
        }
        const MatrixXd lower = panel(j, j).topLeftCorner(rows, rows);
        lower.triangularView<Eigen::Lower>().transpose().solveInPlace<Eigen::OnTheRight>(own);
        border_.middleCols(at, rows) = own;
    }
    MatrixXd rest = corner_;
    rest.noalias() -= border_ * border_.transpose();
    const Eigen::LLT<MatrixXd> last(rest);
    if (last.info() != Eigen::Success) return false;
    corner_ = last.matrixL();
    return true;
}

MatrixXd Envelope::solve(const MatrixXd& right) const {
    const int count = int(panels_.size());
    MatrixXd x = right;
    const auto self = const_cast<Envelope*>(this);
    const auto rowsOf = [&](int p) { return std::min<Index>(panelSize_, size() - Index(p) * panelSize_); };
    for (int j = 0; j < count; ++j) {
        const Index at = Index(j) * panelSize_, rows = rowsOf(j);
        const int from = firsts_[std::size_t(j)];
        if (from < j)
            x.middleRows(at, rows).noalias() -=
                panels_[std::size_t(j)].leftCols(Index(j - from) * panelSize_).topRows(rows) *
                x.middleRows(Index(from) * panelSize_, Index(j - from) * panelSize_);
        const MatrixXd lower = self->panel(j, j).topLeftCorner(rows, rows);
        x.middleRows(at, rows) = lower.triangularView<Eigen::Lower>().solve(x.middleRows(at, rows)).eval();
    }
    const Index border = corner_.rows();
    if (border > 0) {
        x.bottomRows(border).noalias() -= border_ * x.topRows(size());
        x.bottomRows(border) = corner_.triangularView<Eigen::Lower>().solve(x.bottomRows(border)).eval();
        x.bottomRows(border) = corner_.triangularView<Eigen::Lower>().transpose().solve(x.bottomRows(border)).eval();
        x.topRows(size()).noalias() -= border_.transpose() * x.bottomRows(border);
    }
    for (int j = count - 1; j >= 0; --j) {
        const Index at = Index(j) * panelSize_, rows = rowsOf(j);
        const int from = firsts_[std::size_t(j)];
        const MatrixXd lower = self->panel(j, j).topLeftCorner(rows, rows);
        x.middleRows(at, rows) = lower.triangularView<Eigen::Lower>().transpose().solve(x.middleRows(at, rows)).eval();
        if (from < j)
            x.middleRows(Index(from) * panelSize_, Index(j - from) * panelSize_).noalias() -=
                panels_[std::size_t(j)].leftCols(Index(j - from) * panelSize_).topRows(rows).transpose() *
                x.middleRows(at, rows);
    }
    return x;
}

void Envelope::invert() {
    const int count = int(panels_.size());
    const Index border = corner_.rows();
    // The border's part first: Z = -(A^-1 C^T) S^-1 is what the inverse holds there.
    MatrixXd cornerInverse, across;
    if (border > 0) {
        cornerInverse = corner_.triangularView<Eigen::Lower>().solve(MatrixXd::Identity(border, border));
        cornerInverse = (cornerInverse.transpose() * cornerInverse).eval();
        // L^-T Y^T, column by column of the border.
        across = border_.transpose();
        for (int j = count - 1; j >= 0; --j) {
            const Index at = Index(j) * panelSize_, rows = std::min<Index>(panelSize_, size() - at);
            const int from = firsts_[std::size_t(j)];
            const MatrixXd lower = panel(j, j).topLeftCorner(rows, rows);
            across.middleRows(at, rows) =
                lower.triangularView<Eigen::Lower>().transpose().solve(across.middleRows(at, rows)).eval();
            if (from < j)
                across.middleRows(Index(from) * panelSize_, Index(j - from) * panelSize_).noalias() -=
                    panels_[std::size_t(j)].leftCols(Index(j - from) * panelSize_).topRows(rows).transpose() *
                    across.middleRows(at, rows);
        }
    }
    for (int j = count - 1; j >= 0; --j) {
        const auto& below = below_[std::size_t(j)];
        const MatrixXd inverse = MatrixXd(panel(j, j).triangularView<Eigen::Lower>())
                                     .triangularView<Eigen::Lower>()
                                     .solve(MatrixXd::Identity(panelSize_, panelSize_));
        std::vector<MatrixXd> factor(below.size()), found(below.size());
        for (std::size_t k = 0; k < below.size(); ++k) factor[k] = panel(below[k], j) * inverse;  // L_kj L_jj^-1
        parallelFor(
            below.size(),
            [&](std::size_t i) {
                MatrixXd sum = MatrixXd::Zero(panelSize_, panelSize_);
                for (std::size_t k = 0; k < below.size(); ++k) {
                    if (below[k] <= below[i]) sum.noalias() -= panel(below[i], below[k]) * factor[k];
                    else sum.noalias() -= panel(below[k], below[i]).transpose() * factor[k];
                }
                found[i] = std::move(sum);
            },
            1);
        MatrixXd diagonal = inverse.transpose() * inverse;
        for (std::size_t k = 0; k < below.size(); ++k) diagonal.noalias() -= factor[k].transpose() * found[k];
        panel(j, j) = 0.5 * (diagonal + diagonal.transpose());
        for (std::size_t k = 0; k < below.size(); ++k) panel(below[k], j) = found[k];
    }
    if (border == 0) return;
    const MatrixXd weighted = across * cornerInverse;
    parallelFor(
        std::size_t(count),
        [&](std::size_t p) {
            const Index at = Index(p) * panelSize_, rows = std::min<Index>(panelSize_, size() - at);
            const Index left = Index(firsts_[p]) * panelSize_;
            const Index width = at + rows - left;
            panels_[p].topLeftCorner(rows, width).noalias() +=
                weighted.middleRows(at, rows) * across.middleRows(left, width).transpose();
        },
        4);
    border_ = -weighted.transpose();
    corner_ = cornerInverse;
}

}  // namespace pinion
