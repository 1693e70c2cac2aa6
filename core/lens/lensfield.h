#pragma once

#include <Eigen/Core>
#include <functional>
#include <memory>
#include <optional>
#include <vector>

namespace pinion {

/// A distortion without a formula: by how much each place of a plate moves when the distortion is taken out. It is a
/// product of uniform cubic B-splines (de Boor 1978) over `columns` x `rows` even cells of the frame and goes on
/// straight beyond it; it does not change once it is made.
class LensField {
public:
    /// `coefficients` in pixels, rows from the top: (columns + 3) x (rows + 3), the first of them one cell outside.
    LensField(int width, int height, int columns, int rows, std::vector<Eigen::Vector2d> coefficients);

    /// The field that is nearest to `offsets` (pixels) at the centres of all pixels, by least squares.
    static LensField nearest(int width, int height, int columns, int rows,
                             const std::function<Eigen::Vector2d(int x, int y)>& offsets);

    int width() const { return width_; }
    int height() const { return height_; }
    int columns() const { return columns_; }
    int rows() const { return rows_; }
    const std::vector<Eigen::Vector2d>& coefficients() const { return coefficients_; }

    struct Move {
        Eigen::Vector2d offset;
        Eigen::Matrix2d slope;  ///< its derivative by the place
    };
    Move at(const Eigen::Vector2d& plate) const;

    /// The place of the plate that is moved to `undistorted`, by Newton's method to 1e-9 px; none where it does not
    /// arrive, or farther beyond the frame than half of it.
    std::optional<Eigen::Vector2d> plateFrom(const Eigen::Vector2d& undistorted) const;
    /// The other way; none as far beyond the frame.
    std::optional<Eigen::Vector2d> undistortedFrom(const Eigen::Vector2d& plate) const;

    /// Where the field turns the picture inside out or mirrors it; none where it is sound.
    std::optional<Eigen::Vector2d> fold() const;

    LensField scaled(double ratio, int width, int height) const;

    bool operator==(const LensField&) const = default;

private:
    bool isNear(const Eigen::Vector2d& plate) const;

    int width_, height_, columns_, rows_;
    std::vector<Eigen::Vector2d> coefficients_;
};

/// A field that lenses share, compared by what it holds.
class SharedField {
public:
    SharedField() = default;
    explicit SharedField(LensField field) : field_(std::make_shared<const LensField>(std::move(field))) {}

    explicit operator bool() const { return field_ != nullptr; }
    const LensField& operator*() const { return *field_; }
    const LensField* operator->() const { return field_.get(); }
    bool operator==(const SharedField& other) const {
        return field_ == other.field_ || (field_ && other.field_ && *field_ == *other.field_);
    }

private:
    std::shared_ptr<const LensField> field_;
};

}  // namespace pinion
