/* The computation on planes for the score. metric.py describes the metric, planes.py the functions.

   Every result is the same on every processor: the compiler may not contract a multiplication and an addition into one
   step (build option -ffp-contract=off), and sums run in LANES lanes in a fixed order, however many of them a processor
   takes at a time. Planes are float32, row after row, without gaps. */

#include <stddef.h>
#include <stdint.h>

#define RADIUS 5
#define WINDOW (2 * RADIUS + 1)
#define LANES 16
#define CHUNK 1024
#define TILE 256  /* columns worked on at a time, so that the rings of a tile stay in the first cache */
#define AHEAD 2   /* rows that are fetched ahead: the next row of a tile is far away in memory */
#define BORDER 16 /* columns beside a tile, of which RADIUS are used: whole lanes */

#if defined(__x86_64__) && defined(__linux__) && !defined(WITHOUT_CLONES)
#define EVERY_PROCESSOR __attribute__((target_clones("avx512f", "avx2", "default")))
#else
#define EVERY_PROCESSOR
#endif
#define ALIGNED _Alignas(64)
typedef float Lanes __attribute__((vector_size(4 * LANES), may_alias));
typedef double DoubleLanes __attribute__((vector_size(8 * LANES)));
typedef int32_t Bits __attribute__((vector_size(4 * LANES)));
#define INLINE static inline __attribute__((always_inline))
#define EXPORTED __attribute__((visibility("default")))

INLINE float magnitude(float value) { return value < 0 ? -value : value; }

/* The cube root of a number between 0.001 and 2, right to two units of the last place. One over the root is guessed by a
   third of the exponent. Each step triples its digits; none divides, which would take most of the time. */
INLINE float cube_root(float value) {
    union {
        float number;
        int32_t bits;
    } guess = {value};
    guess.bits = 1419916288 - (int32_t)((float)guess.bits * 0.33333334f);
    float inverse = guess.number;
    for (int step = 0; step < 2; step++) {
        float error = 1.0f - value * (inverse * inverse * inverse);
        inverse += inverse * (error * (0.33333334f + error * 0.22222222f));
    }
    return value * (inverse * inverse);
}

INLINE void cones(const float *restrict red, const float *restrict green, const float *restrict blue, size_t pixels,
                  const float *shares, float bias, float *restrict response) {
    const float r = shares[0], g = shares[1], b = shares[2];
    for (size_t i = 0; i < pixels; i++)
        response[i] = cube_root(r * red[i] + g * green[i] + b * blue[i] + bias);
}

/* Linear light of 8-bit sRGB pixels, by the table of 256. */
EXPORTED void linear(const uint8_t *restrict samples, size_t pixels, const float *restrict table,
                     float *restrict red, float *restrict green, float *restrict blue) {
    for (size_t i = 0; i < pixels; i++) {
        red[i] = table[samples[3 * i]];
        green[i] = table[samples[3 * i + 1]];
        blue[i] = table[samples[3 * i + 2]];
    }
}

/* X, Y and B of linear light, shifted to be positive. X and B may be null. Each response contains the root of the bias,
   which the shifts of Y and B subtract; in X it cancels out. */
EXPORTED EVERY_PROCESSOR void xyb(const float *restrict red, const float *restrict green, const float *restrict blue,
                                  size_t pixels, const float *shares, float bias, float luma_shift, float blue_shift,
                                  float *restrict x, float *restrict y, float *restrict b) {
    float longs[CHUNK], mediums[CHUNK], shorts[CHUNK];
    for (size_t start = 0; start < pixels; start += CHUNK) {
        size_t count = pixels - start < CHUNK ? pixels - start : CHUNK;
        cones(red + start, green + start, blue + start, count, shares, bias, longs);
        cones(red + start, green + start, blue + start, count, shares + 3, bias, mediums);
        for (size_t i = 0; i < count; i++)
            y[start + i] = 0.5f * (longs[i] + mediums[i]) + luma_shift;
        if (x)
            for (size_t i = 0; i < count; i++)
                x[start + i] = 7.0f * (longs[i] - mediums[i]) + 0.42f;
        if (b) {
            cones(red + start, green + start, blue + start, count, shares + 6, bias, shorts);
            for (size_t i = 0; i < count; i++)
                b[start + i] = shorts[i] - y[start + i] + blue_shift;
        }
    }
}

/* The mean of each block of two by two pixels; at an odd edge, of the pixels that exist. */
EXPORTED EVERY_PROCESSOR void halved(const float *restrict plane, size_t height, size_t width, float *restrict half) {
    size_t columns = width / 2, stride = (width + 1) / 2;
    for (size_t row = 0; row < (height + 1) / 2; row++) {
        const float *restrict upper = plane + 2 * row * width;
        const float *restrict lower = 2 * row + 1 < height ? upper + width : upper;
        float *restrict target = half + row * stride;
        for (size_t i = 0; i < columns; i++)
            target[i] = 0.25f * ((upper[2 * i] + upper[2 * i + 1]) + (lower[2 * i] + lower[2 * i + 1]));
        if (width % 2)
            target[columns] = 0.5f * (upper[width - 1] + lower[width - 1]);
    }
}

/* A segment of a row under the Gaussian, whose weights run from the centre outwards. RADIUS values precede and
   follow the segment. */
INLINE void across(const float *restrict row, size_t count, const float *kernel, float *restrict out) {
    const float k0 = kernel[0], k1 = kernel[1], k2 = kernel[2], k3 = kernel[3], k4 = kernel[4], k5 = kernel[5];
    for (size_t i = 0; i < count; i++)
        out[i] = k0 * row[i] + k1 * (row[i - 1] + row[i + 1]) + k2 * (row[i - 2] + row[i + 2]) +
                 k3 * (row[i - 3] + row[i + 3]) + k4 * (row[i - 4] + row[i + 4]) + k5 * (row[i - 5] + row[i + 5]);
}

/* The last WINDOW segments of a tile: that of row r at r % WINDOW. */
typedef float Ring[WINDOW][TILE];

/* The same down the rows, around `row`; beyond the first and the last row they are mirrored. */
INLINE void down(Ring ring, size_t row, size_t height, size_t count, const float *kernel, float *restrict out) {
    const float *r[WINDOW];
    for (int step = 0; step < WINDOW; step++) {
        ptrdiff_t near = (ptrdiff_t)row + step - RADIUS;
        near = near < 0 ? -1 - near : near;
        near = near >= (ptrdiff_t)height ? 2 * (ptrdiff_t)height - 1 - near : near;
        r[step] = ring[near % WINDOW];
    }
    const float k0 = kernel[0], k1 = kernel[1], k2 = kernel[2], k3 = kernel[3], k4 = kernel[4], k5 = kernel[5];
    for (size_t i = 0; i < count; i++)
        out[i] = k0 * r[5][i] + k1 * (r[4][i] + r[6][i]) + k2 * (r[3][i] + r[7][i]) + k3 * (r[2][i] + r[8][i]) +
                 k4 * (r[1][i] + r[9][i]) + k5 * (r[0][i] + r[10][i]);
}

/* The sums of differences and of their fourth powers, in lanes. */
typedef struct {
    DoubleLanes first, fourth;
} Norms;

/* A segment with its borders, which are zero outside the plane. */
typedef float Segment[BORDER + TILE + BORDER];

/* The part of a row that is copied into a segment: `count` columns from `first` on, to `place` in the segment. */
typedef struct {
    size_t first, place, count;
} Part;

INLINE Part part_of(size_t start, size_t width) {
    Part part = {start > RADIUS ? start - RADIUS : 0, start > RADIUS ? BORDER - RADIUS : BORDER - start, 0};
    size_t end = start + TILE + RADIUS < width ? start + TILE + RADIUS : width;
    part.count = end - part.first;
    return part;
}

INLINE size_t columns_of(size_t start, size_t width) { return width - start < TILE ? width - start : TILE; }

/* The original's side: its mean under the Gaussian; where `spread` is not null, its variance plus `constant`; where `flat`
   is not null, the reciprocal of one plus the height of its edges. The plane continues with zeros to the left and right,
   and is mirrored at the top and bottom. */
EXPORTED EVERY_PROCESSOR void statistics(const float *restrict plane, size_t height, size_t width,
                                         const float *kernel, float constant, float *restrict mean,
                                         float *restrict spread, float *restrict flat) {
    ALIGNED Ring values, squares;
    ALIGNED float mean_row[TILE], square_mean[TILE];
    for (size_t start = 0; start < width; start += TILE) {
        ALIGNED Segment value = {0}, square = {0};
        Part part = part_of(start, width);
        size_t columns = columns_of(start, width), whole = (columns + LANES - 1) / LANES * LANES, next = 0;
        for (size_t row = 0; row < height; row++) {
            for (; next < height && next <= row + RADIUS; next++) {
                const float *restrict source = plane + next * width + part.first;
                for (size_t i = 0; i < part.count; i++) {
                    value[part.place + i] = source[i];
                    square[part.place + i] = source[i] * source[i];
                }
                across(value + BORDER, whole, kernel, values[next % WINDOW]);
                if (spread)
                    across(square + BORDER, whole, kernel, squares[next % WINDOW]);
            }
            size_t place = row * width + start;
            down(values, row, height, whole, kernel, mean_row);
            for (size_t i = 0; i < columns; i++)
                mean[place + i] = mean_row[i];
            if (flat)
                for (size_t i = 0; i < columns; i++)
                    flat[place + i] = 1.0f / (magnitude(plane[place + i] - mean_row[i]) + 1.0f);
            if (spread) {
                down(squares, row, height, whole, kernel, square_mean);
                for (size_t i = 0; i < columns; i++)
                    spread[place + i] = square_mean[i] - mean_row[i] * mean_row[i] + constant;
            }
        }
    }
}

/* Add `differences` and their fourth powers, lane by lane. */
INLINE void add_norms(const float *differences, size_t count, Norms *norms) {
    Lanes first = {0}, fourth = {0};
    for (size_t i = 0; i < count; i += LANES) {
        Lanes value = *(const Lanes *)(differences + i), square = value * value;
        first += (Lanes)((Bits)value & 0x7fffffff); /* without its sign */
        fourth += square * square;
    }
    norms->first += __builtin_convertvector(first, DoubleLanes);
    norms->fourth += __builtin_convertvector(fourth, DoubleLanes);
}

INLINE void sum_norms(const Norms *norms, double *sums) {
    sums[0] = sums[1] = 0;
    for (size_t lane = 0; lane < LANES; lane++) {
        sums[0] += norms->first[lane];
        sums[1] += norms->fourth[lane];
    }
}

INLINE void add_loss(const float *restrict differences, size_t columns, float weight, float *restrict lost) {
    for (size_t i = 0; i < columns; i++)
        lost[i] += weight * magnitude(differences[i]);
}

/* Add to `sums` the sums and the sums of fourth powers of unlike structure, of edges added and of edges removed, of one
   channel at one scale: six values. `spread` is null where similarity does not count, `flat` where edges do not. Where
   `lost` is not null, each difference is added to it times its weight of three. */
EXPORTED EVERY_PROCESSOR void compared(const float *restrict original, const float *restrict original_mean,
                                       const float *restrict spread, const float *restrict flat,
                                       const float *restrict candidate, size_t height, size_t width,
                                       const float *kernel, double *restrict sums, const float *weights,
                                       float *restrict lost) {
    ALIGNED Ring gaps, gap_squares, squares;
    Norms unlike_norms = {0}, added_norms = {0}, removed_norms = {0};
    ALIGNED float gap_mean[TILE], gap_square_mean[TILE], square_mean[TILE], mean[TILE];
    for (size_t start = 0; start < width; start += TILE) {
        ALIGNED Segment gap = {0}, gap_square = {0}, square = {0};
        ALIGNED float unlike[TILE] = {0}, added[TILE] = {0}, removed[TILE] = {0};
        Part part = part_of(start, width);
        size_t columns = columns_of(start, width), whole = (columns + LANES - 1) / LANES * LANES, next = 0;
        for (size_t row = 0; row < height; row++) {
            for (; next < height && next <= row + RADIUS; next++) {
                const float *restrict ours = original + next * width + part.first;
                const float *restrict theirs = candidate + next * width + part.first;
                if (next + AHEAD < height)
                    for (size_t i = 0; i < part.count; i += LANES) {
                        __builtin_prefetch(ours + AHEAD * width + i);
                        __builtin_prefetch(theirs + AHEAD * width + i);
                    }
                for (size_t i = 0; i < part.count; i++) {
                    float difference = ours[i] - theirs[i];
                    gap[part.place + i] = difference;
                    gap_square[part.place + i] = difference * difference;
                    square[part.place + i] = theirs[i] * theirs[i];
                }
                across(gap + BORDER, whole, kernel, gaps[next % WINDOW]);
                if (spread) {
                    across(gap_square + BORDER, whole, kernel, gap_squares[next % WINDOW]);
                    across(square + BORDER, whole, kernel, squares[next % WINDOW]);
                }
            }
            size_t place = row * width + start;
            if (row + AHEAD < height)
                for (size_t i = 0; i < columns; i += LANES) {
                    __builtin_prefetch(original_mean + place + AHEAD * width + i);
                    if (spread)
                        __builtin_prefetch(spread + place + AHEAD * width + i);
                    if (flat)
                        __builtin_prefetch(flat + place + AHEAD * width + i);
                }
            down(gaps, row, height, whole, kernel, gap_mean);
            for (size_t i = 0; i < columns; i++)
                mean[i] = original_mean[place + i] - gap_mean[i];
            if (flat) {
                for (size_t i = 0; i < columns; i++) {
                    float edge = (magnitude(candidate[place + i] - mean[i]) + 1.0f) * flat[place + i] - 1.0f;
                    added[i] = edge > 0 ? edge : 0;
                    removed[i] = edge < 0 ? edge : 0;
                }
                add_norms(added, whole, &added_norms);
                add_norms(removed, whole, &removed_norms);
            }
            if (spread) {
                down(gap_squares, row, height, whole, kernel, gap_square_mean);
                down(squares, row, height, whole, kernel, square_mean);
                for (size_t i = 0; i < columns; i++) {
                    float far = gap_mean[i] * gap_mean[i];
                    float spreads = square_mean[i] - mean[i] * mean[i] + spread[place + i];
                    float varied = (gap_square_mean[i] - far) / spreads;
                    unlike[i] = varied - varied * far + far;
                }
                add_norms(unlike, whole, &unlike_norms);
            }
            if (lost) {
                add_loss(unlike, columns, weights[0], lost + place);
                add_loss(added, columns, weights[1], lost + place);
                add_loss(removed, columns, weights[2], lost + place);
            }
        }
    }
    sum_norms(&unlike_norms, sums);
    sum_norms(&added_norms, sums + 2);
    sum_norms(&removed_norms, sums + 4);
}
