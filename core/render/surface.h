#pragma once

#include "comp/art.h"

#include <Eigen/Core>
#include <array>
#include <memory>
#include <vector>

namespace pinion {

/// A picture that lies on a surface, with its alpha, kept at every half of its size: what a pixel covers of it is
/// averaged by samples along the longer way of its footprint, each from the level that the shorter way asks for
/// (McCormack et al. 1999, "Feline"; Williams 1983 for the levels). Safe to read from several threads.
class SurfacePicture {
public:
    /// Art that was made for a linear plate, with what was keyed out of it.
    explicit SurfacePicture(std::shared_ptr<const Art> art);
    /// `alpha` of the picture's size, or none: opaque. Colours as shown are kept linear.
    SurfacePicture(const Picture& picture, const ImageChannel* alpha = nullptr);
    /// Linear red, green, blue, premultiplied, and alpha: the mean of what lies about `at` ((0, 0) top left to (1, 1))
    /// within a footprint whose sides are `across` and `down`.
    Eigen::Array4f at(const Eigen::Vector2d& at, const Eigen::Vector2d& across, const Eigen::Vector2d& down) const;

    /// Each level half as large as the one before; its pixels as `at` has them.
    std::size_t levelCount() const { return levels_.size(); }
    int width(std::size_t level = 0) const { return levels_[level].width; }
    int height(std::size_t level = 0) const { return levels_[level].height; }
    Eigen::Array4f texel(int x, int y, std::size_t level = 0) const {
        const Level& own = levels_[level];
        return Eigen::Map<const Eigen::Array4f>(own.rgba +
                                                4 * (std::size_t(y) * std::size_t(own.width) + std::size_t(x)));
    }

private:
    struct Level {
        int width = 0, height = 0;
        const float* rgba = nullptr;
    };
    static Eigen::Array4f sample(const Level& level, double x, double y);
    std::vector<Level> levels_;
    std::vector<std::vector<Eigen::Array4f>> own_;  ///< what the levels lie in: these, or the art
    std::shared_ptr<const Art> art_;
};

/// Words in one line, of a colour and clear about it, fitted to a sheet of that shape. Those made last are kept.
std::shared_ptr<const SurfacePicture> textPicture(const std::string& words, double widthToHeight,
                                                  const std::array<double, 3>& colour);

/// Numbered chequers for a board of that shape, and a measured grid of lines a unit apart over `width` x `depth`. Those
/// made last are kept.
std::shared_ptr<const SurfacePicture> boardPicture(double widthToHeight);
std::shared_ptr<const SurfacePicture> gridPicture(double width, double depth, const std::array<double, 3>& colour);

}  // namespace pinion
