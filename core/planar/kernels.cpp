#include "planar/kernels.h"

#include "base/cloned.h"

#include <algorithm>

namespace pinion::planekernels {

PINION_CLONED void project(const double* m, const float* __restrict u, const float* __restrict v, int count,
                           float* __restrict x, float* __restrict y) {
    const float a = float(m[0]), b = float(m[1]), c = float(m[2]), d = float(m[3]), e = float(m[4]), f = float(m[5]),
                g = float(m[6]), h = float(m[7]), k = float(m[8]);
    for (int i = 0; i < count; ++i) {
        const float depth = g * u[i] + h * v[i] + k;
        const float inverse = 1.0F / depth;
        x[i] = depth > 0 ? (a * u[i] + b * v[i] + c) * inverse : -1e6F;
        y[i] = depth > 0 ? (d * u[i] + e * v[i] + f) * inverse : -1e6F;
    }
}

PINION_CLONED void distort(const Distortion& lens, int count, float* __restrict x, float* __restrict y) {
    for (int i = 0; i < count; ++i) {
        const float px = x[i], py = y[i], r2 = px * px + py * py;
        const float radial = 1 + r2 * (lens.k1 + r2 * (lens.k2 + r2 * lens.k3));
        const float dx = px * radial + 2 * lens.p1 * px * py + lens.p2 * (r2 + 2 * px * px);
        const float dy = py * radial + lens.p1 * (r2 + 2 * py * py) + 2 * lens.p2 * px * py;
        const bool holds = r2 < lens.limit2;
        x[i] = holds ? dx * lens.xScale + lens.xShift : -1e6F;
        y[i] = holds ? dy * lens.yScale + lens.yShift : -1e6F;
    }
}

PINION_CLONED void sample(const View& view, const float* __restrict xs, const float* __restrict ys, int count,
                          float* __restrict values, float* __restrict inside) {
    const float right = float(view.width) - 1.001F, bottom = float(view.height) - 1.001F;
    const float* __restrict pixels = view.pixels;
    const int stride = view.width;
    for (int i = 0; i < count; ++i) {
        const float x = xs[i] - view.left, y = ys[i] - view.top;
        const bool holds = x >= 0 && y >= 0 && x <= right && y <= bottom;
        const float xi = holds ? x : 0.0F, yi = holds ? y : 0.0F;
        const int ix = int(xi), iy = int(yi);
        const float fx = xi - float(ix), fy = yi - float(iy);
        const int at = iy * stride + ix;
        const float top = pixels[at] + fx * (pixels[at + 1] - pixels[at]);
        const float below = pixels[at + stride] + fx * (pixels[at + stride + 1] - pixels[at + stride]);
        inside[i] = holds ? 1.0F : 0.0F;
        values[i] = holds ? top + fy * (below - top) : 0.0F;
    }
}

PINION_CLONED void residuals(const float* __restrict values, const float* __restrict u, const float* __restrict v,
                             const float* __restrict pattern, const float* __restrict inside, const Light& light,
                             int count, float* __restrict residual) {
    const float gain = light.gain, alongU = light.slopeU / light.half, alongV = light.slopeV / light.half;
    const float offset = light.offset - alongU * light.u - alongV * light.v;
    for (int i = 0; i < count; ++i)
        residual[i] = (values[i] - gain * pattern[i] - offset - alongU * u[i] - alongV * v[i]) * inside[i];
}

PINION_CLONED void weigh(const float* __restrict residual, const float* __restrict slope2,
                         const float* __restrict inside, float noise2, float spread2, float block, int count,
                         float* __restrict weight) {
    for (int i = 0; i < count; ++i) {
        const float ratio = 1.0F + residual[i] * residual[i] / (noise2 + spread2 * slope2[i]);
        weight[i] = inside[i] * block / (ratio * ratio);
    }
}

namespace {

constexpr int kChunk = 256;

/// Adds the products of the columns, weighted; those of the light and the residual are filled in here.
inline __attribute__((always_inline)) void addProducts(float (&column)[kColumns][kChunk],
                                                       float (&weighted)[kColumns][kChunk], const Pixels& p,
                                                       const Light& light, int from, int n, double* sums) {
    const float perHalf = 1 / light.half;
    for (int i = 0; i < n; ++i) {
        column[8][i] = p.pattern[from + i];
        column[9][i] = 1.0F;
        column[10][i] = (p.u[from + i] - light.u) * perHalf;
        column[11][i] = (p.v[from + i] - light.v) * perHalf;
        column[12][i] = p.residual[from + i];
    }
    for (int k = 0; k < kColumns; ++k)
        for (int i = 0; i < n; ++i) weighted[k][i] = column[k][i] * p.weight[from + i];
    int at = 0;
    for (int a = 0; a < kColumns; ++a)
        for (int b = a; b < kColumns; ++b) {
            float sum = 0;
            const float* __restrict x = column[a];
            const float* __restrict y = weighted[b];
            for (int i = 0; i < n; ++i) sum += x[i] * y[i];
            sums[at++] += double(sum);
        }
}

}  // namespace

PINION_CLONED void accumulate(const Pixels& p, const Light& light, int count, double* sums) {
    float column[kColumns][kChunk];    // NOLINT: filled below
    float weighted[kColumns][kChunk];  // NOLINT: filled below
    const float gain = light.gain;
    for (int from = 0; from < count; from += kChunk) {
        const int n = std::min(kChunk, count - from);
        for (int i = 0; i < n; ++i) {
            const float u = p.u[from + i], v = p.v[from + i];
            const float gx = gain * p.gx[from + i], gy = gain * p.gy[from + i];
            const float outward = gx * u + gy * v;
            column[0][i] = gx;
            column[1][i] = gy;
            column[2][i] = gx * u;
            column[3][i] = gx * v;
            column[4][i] = gy * u;
            column[5][i] = gy * v;
            column[6][i] = -outward * u;
            column[7][i] = -outward * v;
        }
        addProducts(column, weighted, p, light, from, n, sums);
    }
}

PINION_CLONED void projectBody(const double* m, const double* camera, const Body& b, float leastFacing, int count,
                               float* __restrict x, float* __restrict y) {
    const float m00 = float(m[0]), m01 = float(m[1]), m02 = float(m[2]), m03 = float(m[3]), m10 = float(m[4]),
                m11 = float(m[5]), m12 = float(m[6]), m13 = float(m[7]), m20 = float(m[8]), m21 = float(m[9]),
                m22 = float(m[10]), m23 = float(m[11]);
    const float cx = float(camera[0]), cy = float(camera[1]), cz = float(camera[2]), least2 = leastFacing * leastFacing;
    for (int i = 0; i < count; ++i) {
        const float px = b.x[i], py = b.y[i], pz = b.z[i];
        const float depth = m20 * px + m21 * py + m22 * pz + m23, inverse = 1.0F / depth;
        const float vx = cx - px, vy = cy - py, vz = cz - pz;
        const float facing = vx * b.nx[i] + vy * b.ny[i] + vz * b.nz[i];
        const bool seen = depth > 0 && facing > 0 && facing * facing > least2 * (vx * vx + vy * vy + vz * vz);
        x[i] = seen ? (m00 * px + m01 * py + m02 * pz + m03) * inverse : -1e6F;
        y[i] = seen ? (m10 * px + m11 * py + m12 * pz + m13) * inverse : -1e6F;
    }
}

PINION_CLONED void accumulateBody(const Body& b, const double* camera, const double* centre, const Pixels& p,
                                  const Light& light, int count, double* sums) {
    float column[kColumns][kChunk];    // NOLINT: filled below
    float weighted[kColumns][kChunk];  // NOLINT: filled below
    const float cx = float(camera[0]), cy = float(camera[1]), cz = float(camera[2]);
    const float ox = float(centre[0]), oy = float(centre[1]), oz = float(centre[2]), gain = light.gain;
    for (int from = 0; from < count; from += kChunk) {
        const int n = std::min(kChunk, count - from);
        for (int i = 0; i < n; ++i) {
            const int k = from + i;
            const float vx = b.x[k] - cx, vy = b.y[k] - cy, vz = b.z[k] - cz;
            const float away = -(vx * b.nx[k] + vy * b.ny[k] + vz * b.nz[k]);
            // What is not seen has no weight; its columns have to be numbers all the same.
            const float share = away > 1e-3F ? gain / away : 0.0F;
            const float gx = share * (b.qy[k] * vz - b.qz[k] * vy), gy = share * (b.qz[k] * vx - b.qx[k] * vz),
                        gz = share * (b.qx[k] * vy - b.qy[k] * vx);
            const float ax = b.x[k] - ox, ay = b.y[k] - oy, az = b.z[k] - oz;
            column[0][i] = gx;
            column[1][i] = gy;
            column[2][i] = gz;
            column[3][i] = ay * gz - az * gy;
            column[4][i] = az * gx - ax * gz;
            column[5][i] = ax * gy - ay * gx;
            column[6][i] = column[7][i] = 0;
        }
        addProducts(column, weighted, p, light, from, n, sums);
    }
}

PINION_CLONED void accumulateBlur(const float* __restrict xx, const float* __restrict xy, const float* __restrict yy,
                                  const float* __restrict residual, const float* __restrict weight, float gain,
                                  int count, double* sums) {
    float s[10] = {};
    for (int i = 0; i < count; ++i) {
        const float a = 0.5F * gain * xx[i], b = gain * xy[i], c = 0.5F * gain * yy[i], r = residual[i], w = weight[i];
        s[0] += w * a * a;
        s[1] += w * a * b;
        s[2] += w * a * c;
        s[3] += w * a * r;
        s[4] += w * b * b;
        s[5] += w * b * c;
        s[6] += w * b * r;
        s[7] += w * c * c;
        s[8] += w * c * r;
        s[9] += w * r * r;
    }
    for (int k = 0; k < 10; ++k) sums[k] += double(s[k]);
}

PINION_CLONED BlockSums misfitOf(const float* __restrict residual, const float* __restrict slope2,
                                 const float* __restrict inside, float noise2, float spread2, float most, int count) {
    float misfit = 0, held = 0;
    for (int i = 0; i < count; ++i) {
        const float ratio = residual[i] * residual[i] / (noise2 + spread2 * slope2[i]);
        misfit += inside[i] * (ratio < most ? ratio : most);
        held += inside[i];
    }
    return {misfit, held};
}

}  // namespace pinion::planekernels
