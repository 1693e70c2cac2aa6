#pragma once

#include <Eigen/Core>
#include <vector>

namespace pinion {

/// The lower half of a symmetric matrix in which each row is empty up to some column and counts as full from there to
/// the diagonal (an envelope; George and Liu 1981, chapter 4), with a dense border of a few last rows. The reduced
/// normal equations of a shot look so: frames in order of time, those that share tracks near each other, the lens at
/// the border. Factors and the needed part of the inverse stay within the envelope, so memory and time grow with its
/// area, not with the square and cube of the frames.
class Envelope {
public:
    using Rows = Eigen::Matrix<double, Eigen::Dynamic, Eigen::Dynamic, Eigen::RowMajor>;

    /// `first[i]`: the leftmost block column of block row i, at most i. Blocks are `block` rows wide, the border
    /// `border` rows.
    Envelope(int block, const std::vector<int>& first, int border);

    void setZero();

    /// Block (row, column), column <= row, as the address of its first entry; rows of it are `stride(row)` apart.
    double* at(int row, int column) {
        const Place& place = places_[std::size_t(row)];
        return panels_[place.panel].data() + (place.offset + Eigen::Index(column) * block_);
    }
    const double* at(int row, int column) const { return const_cast<Envelope*>(this)->at(row, column); }
    Eigen::Index stride(int row) const { return panels_[places_[std::size_t(row)].panel].cols(); }
    bool holds(int row, int column) const {
        return column <= row && column / perPanel_ >= firsts_[std::size_t(row / perPanel_)];
    }

    Rows& border() { return border_; }             ///< border x size, the last rows left of the corner
    Eigen::MatrixXd& corner() { return corner_; }  ///< border x border
    const Rows& border() const { return border_; }
    const Eigen::MatrixXd& corner() const { return corner_; }

    Eigen::Index size() const { return Eigen::Index(blocks_) * block_; }  ///< rows without the border
    int block() const { return block_; }

    /// Adds the same entries of another envelope of the same shape.
    void add(const Envelope& other);

    /// Cholesky, in place. False when the matrix is not positive definite.
    bool factorise();

    /// Once factorised: x such that the matrix times x is `right` (size + border rows, any number of columns).
    Eigen::MatrixXd solve(const Eigen::MatrixXd& right) const;

    /// Once factorised: the entries of the inverse that lie within the envelope, in place of the factor (Takahashi,
    /// Fagan and Chen 1973; Erisman and Tinney 1975), border and corner included.
    void invert();

private:
    Eigen::Ref<Rows, 0, Eigen::OuterStride<>> panel(int row, int column);

    /// Where a block row lies: its panel, and what to add to a column's rows.
    struct Place {
        std::size_t panel;
        Eigen::Index offset;
    };

    int block_, blocks_, perPanel_, panelSize_;
    std::vector<Place> places_;
    std::vector<int> firsts_;              ///< leftmost panel of each panel row
    std::vector<std::vector<int>> below_;  ///< panel rows below the diagonal that reach a panel column
    std::vector<Rows> panels_;
    Rows border_;
    Eigen::MatrixXd corner_;
};

}  // namespace pinion
