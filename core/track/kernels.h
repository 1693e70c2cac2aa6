#pragma once

#include "picture/picture.h"

namespace pinion::kernels {

// The inner loops of the matcher: compiled for the processor at hand, sums in any order. Only sources of track/ use
// them.

/// A row-major 3x3 that takes pattern coordinates (from the centre) to sample indices of a plane.
struct Warp {
    double m[9];
    bool isShift() const {
        return m[0] == 1 && m[1] == 0 && m[3] == 0 && m[4] == 1 && m[6] == 0 && m[7] == 0 && m[8] == 1;
    }
};

/// Bilinear samples of the warped `size` x `size` pattern; false when a corner is outside the plane.
bool samplePattern(const ImageChannel& plane, const Warp& warp, int size, float* out);

/// Central differences of a padded patch, (size + 2) squared, into `size` squared gradients and values.
void differentiate(const float* padded, int size, float* values, float* gradientX, float* gradientY);

struct Sums {
    float sum;
    float squares;
};
Sums sums(const float* values, int count);
float dot(const float* a, const float* b, int count);

/// values *= mask
void multiply(float* values, const float* mask, int count);

/// values -= offset + factor * other
void subtract(float* values, float offset, float factor, const float* other, int count);

/// Sliding products of one patch over `shifts` places of a window row.
void correlateRow(const float* window, int stride, const float* patch, int side, int shifts, float* products);

}  // namespace pinion::kernels
