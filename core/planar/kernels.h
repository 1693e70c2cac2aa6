#pragma once

#include <cstddef>

namespace pinion::planekernels {

// The inner loops of the planar alignment: compiled for the processor at hand, sums in any order. Only sources of
// planar/ use them.

/// One level of a frame, or a part of it that begins at (`left`, `top`).
struct View {
    const float* pixels;
    int width, height;
    float left, top;
};

/// Where the row-major 3x3 `m` takes the places (`u`, `v`); far outside (-1e6) where it has no answer.
void project(const double* m, const float* u, const float* v, int count, float* x, float* y);

/// Brown and Conrady's distortion of places on the normalised image plane, then `x * xScale + xShift` and so on; far
/// outside beyond the radius up to which the polynomial grows.
struct Distortion {
    float k1, k2, k3, p1, p2, limit2;
    float xScale, xShift, yScale, yShift;
};
void distort(const Distortion& lens, int count, float* x, float* y);

/// Bilinear samples at sample indices of the level; `inside` is 1 where there is a sample, else 0 (and the sample too).
void sample(const View& view, const float* x, const float* y, int count, float* values, float* inside);

/// How light differs within a cell about (`u`, `v`): a gain, an offset, and a slope of the offset over `half`.
struct Light {
    float gain, offset, slopeU, slopeV;
    float u, v, half;
};

/// residual = (value - gain * pattern - offset - slopes) * inside
void residuals(const float* values, const float* u, const float* v, const float* pattern, const float* inside,
               const Light& light, int count, float* residual);

/// weight = inside * block / (1 + r2 / (noise2 + spread2 * slope2))^2 : Geman and McClure's, with a wider noise where
/// the pattern is steep (`slope2` is the square of its gradient, in levels a pixel).
void weigh(const float* residual, const float* slope2, const float* inside, float noise2, float spread2, float block,
           int count, float* weight);

/// The products of the eight steepest-descent directions, the pattern, one, the place in the cell, and the residual: 13
/// columns, the upper triangle by rows. Directions as of a perspective: see alignment.cpp. Added to `sums`.
inline constexpr int kColumns = 13, kProducts = kColumns * (kColumns + 1) / 2;
struct Pixels {
    const float *u, *v, *gx, *gy, *pattern, *residual, *weight;
};
void accumulate(const Pixels& pixels, const Light& light, int count, double* sums);

/// The pixels of a cylinder: where each lies in the reference camera's space, the surface's normal there, and its
/// gradient on the surface turned by a right angle (h1 * axis - h2 * tangent, h the change along tangent and axis).
struct Body {
    const float *x, *y, *z, *nx, *ny, *nz, *qx, *qy, *qz;
};
/// The directions (z = 1) in which the row-major 3x4 `m` takes the points; far outside (-1e6) for what lies behind, or
/// turns its face away from `camera` (of the reference's space): less than `leastFacing`, a cosine.
void projectBody(const double* m, const double* camera, const Body& body, float leastFacing, int count, float* x,
                 float* y);
/// As `accumulate`, for a body that is shifted (three columns) and turned about `centre` (three), seen from `camera`;
/// two columns are zero. A point that is moved shows what lies on its surface where the ray to it meets.
void accumulateBody(const Body& body, const double* camera, const double* centre, const Pixels& pixels,
                    const Light& light, int count, double* sums);

/// The products of the three second derivatives and the residual: 4 columns, 10 sums. Added to `sums`.
void accumulateBlur(const float* xx, const float* xy, const float* yy, const float* residual, const float* weight,
                    float gain, int count, double* sums);

/// Sum of min(r2 / (noise2 + spread2 * slope2), most) over what is inside, and how many those are.
struct BlockSums {
    float misfit, inside;
};
BlockSums misfitOf(const float* residual, const float* slope2, const float* inside, float noise2, float spread2,
                   float most, int count);

}  // namespace pinion::planekernels
