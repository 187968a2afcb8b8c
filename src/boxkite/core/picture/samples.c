/* The samples of pictures, worked on in compiled code: looks, what is laid over a picture, how close two are.

   The same as the Python beside it does, which goes on without this where it could not be built. samples.pyi says what
   each function takes. Every length is checked against the memory that was handed over before any of it is touched. */

#define PY_SSIZE_T_CLEAN
#define Py_LIMITED_API 0x030B0000
#include <Python.h>

#include <stdint.h>
#include <stdlib.h>
#include <string.h>

#if defined(__x86_64__) && defined(__GNUC__)
#include <immintrin.h>
#define AVX2 __attribute__((target("avx2")))
#endif
#if defined(__GNUC__)
#define INLINE static inline __attribute__((always_inline))
#else
#define INLINE static inline
#endif

/* Whether lines of some bytes, each a step after the one before, lie in a buffer. */
static int holds(const Py_buffer *buffer, Py_ssize_t step, Py_ssize_t lines, Py_ssize_t bytes)
{
    if (lines < 0 || bytes < 0 || step < bytes)
        return 0;
    return lines == 0 || (buffer->len >= bytes && (buffer->len - bytes) / (step ? step : 1) >= lines - 1);
}

static void release(Py_buffer *buffers, int count)
{
    for (int i = 0; i < count; i++)
        PyBuffer_Release(&buffers[i]);
}

/* ---- looks ---- */

typedef struct {
    uint8_t *planes[3];
    Py_ssize_t steps[3];
    int width, height;
    const void *table;
    const int16_t *added;
    int chroma_shift, luma_shift, coarse, levels;
} Look;

enum { AT_ONCE = 512 };

#define LEAST(value, most) ((unsigned)(value) < (most) ? (unsigned)(value) : (most))

/* Some samples of a row of chroma, and those of the one or two rows of luma that they belong to, at above and under,
   which may be the same. step: pixels of luma to one of chroma; beside: how far the second of them is, 0 where a last
   one has none; most: what a sample may hold. In three steps, so that the first and the last are done to many samples in one instruction. */
#define LOOK_PART(name, type)                                                                                         \
    INLINE void name(const Look *look, type *above, type *under, type *restrict blue, type *restrict red,             \
                     const Py_ssize_t columns, const Py_ssize_t step, const Py_ssize_t beside, const unsigned most)   \
    {                                                                                                                 \
        const type *restrict table = look->table;                                                                     \
        const int16_t *restrict added = look->added;                                                                  \
        const unsigned chroma_shift = (unsigned)look->chroma_shift, luma_shift = (unsigned)look->luma_shift;          \
        const unsigned half = (1u << chroma_shift) >> 1, coarse = (unsigned)look->coarse;                             \
        const size_t levels = (size_t)most + 1, fewer = levels >> luma_shift;                                         \
        uint32_t chromas[AT_ONCE];                                                                                    \
        int16_t blues[AT_ONCE], reds[AT_ONCE];                                                                        \
        for (Py_ssize_t x = 0; x < columns; x++)                                                                      \
            chromas[x] = ((LEAST(blue[x], most) + half) >> chroma_shift) * coarse                                     \
                         + ((LEAST(red[x], most) + half) >> chroma_shift);                                            \
        for (Py_ssize_t x = 0; x < columns; x++) {                                                                    \
            const Py_ssize_t left = x * step, right = left + beside;                                                  \
            const unsigned first = LEAST(above[left], most), second = LEAST(above[right], most);                      \
            const unsigned third = LEAST(under[left], most), fourth = LEAST(under[right], most);                      \
            const type *row = table + chromas[x] * levels;                                                            \
            const int16_t *pair = added + 2 * (chromas[x] * fewer + ((first + fourth) >> (1 + luma_shift)));          \
            above[left] = row[first];                                                                                 \
            above[right] = row[second];                                                                               \
            under[left] = row[third];                                                                                 \
            under[right] = row[fourth];                                                                               \
            blues[x] = pair[0];                                                                                       \
            reds[x] = pair[1];                                                                                        \
        }                                                                                                             \
        for (Py_ssize_t x = 0; x < columns; x++) {                                                                    \
            blue[x] = (type)(LEAST(blue[x], most) + (unsigned)blues[x]);                                              \
            red[x] = (type)(LEAST(red[x], most) + (unsigned)reds[x]);                                                 \
        }                                                                                                             \
    }

LOOK_PART(look_part_8, uint8_t)
LOOK_PART(look_part_16, uint16_t)

static void look_part(const Look *look, uint8_t *above, uint8_t *under, uint8_t *blue, uint8_t *red, Py_ssize_t columns,
                      Py_ssize_t step, Py_ssize_t beside, int bytes)
{
    if (bytes == 1 && step == 2 && beside == 1)
        look_part_8(look, above, under, blue, red, columns, 2, 1, 255);
    else if (bytes == 1)
        look_part_8(look, above, under, blue, red, columns, step, beside, 255);
    else
        look_part_16(look, (uint16_t *)above, (uint16_t *)under, (uint16_t *)blue, (uint16_t *)red, columns, step, beside,
                     (unsigned)look->levels - 1);
}

static void apply_look(const Look *look, int wide, int high, int bytes)
{
    const Py_ssize_t rows = (look->height + high) >> high, columns = (look->width + wide) >> wide, step = wide + 1;
    const Py_ssize_t whole = look->width >> wide; /* columns whose pixels are all there */
    for (Py_ssize_t y = 0; y < rows; y++) {
        const Py_ssize_t top = y << high, below = high && top + 1 < look->height ? top + 1 : top;
        uint8_t *above = look->planes[0] + top * look->steps[0], *under = look->planes[0] + below * look->steps[0];
        uint8_t *blue = look->planes[1] + y * look->steps[1], *red = look->planes[2] + y * look->steps[2];
        for (Py_ssize_t x = 0; x < columns;) {
            const Py_ssize_t last = x < whole ? whole : columns, left = last - x;
            const Py_ssize_t count = left < AT_ONCE ? left : AT_ONCE, luma = x * step * bytes, chroma = x * bytes;
            look_part(look, above + luma, under + luma, blue + chroma, red + chroma, count, step, wide && x < whole,
                      bytes);
            x += count;
        }
    }
}

static PyObject *change_colours(PyObject *self, PyObject *args)
{
    (void)self;
    Py_buffer planes[5];
    Py_ssize_t steps[3];
    int width, height, wide, high, chroma_shift, luma_shift, coarse, levels, bytes;
    if (!PyArg_ParseTuple(args, "w*w*w*(nnn)(ii)y*y*(iiiiii)i", &planes[0], &planes[1], &planes[2], &steps[0],
                          &steps[1], &steps[2], &width, &height, &planes[3], &planes[4], &wide, &high, &chroma_shift,
                          &luma_shift, &coarse, &levels, &bytes))
        return NULL;
    int fits = width > 0 && height > 0 && (wide | high | 1) == 1 && (bytes == 1 || bytes == 2) && chroma_shift >= 0
               && luma_shift >= 0 && levels > 1 && levels <= 1 << (8 * bytes) && (bytes == 2 || levels == 256)
               && coarse > 0 && coarse <= 1 << 10
               && (levels - 1 + ((1 << chroma_shift) >> 1)) >> chroma_shift < coarse && chroma_shift < 16
               && luma_shift < 16;
    for (int plane = 0; fits && plane < 3; plane++) {
        int rows = plane ? (height + high) >> high : height, columns = plane ? (width + wide) >> wide : width;
        fits = holds(&planes[plane], steps[plane], rows, (Py_ssize_t)columns * bytes) && steps[plane] % bytes == 0;
    }
    Py_ssize_t chromas = fits ? (Py_ssize_t)coarse * coarse : 0;
    fits = fits && planes[3].len >= chromas * levels * bytes
           && planes[4].len >= chromas * (levels >> luma_shift) * 2 * (Py_ssize_t)sizeof(int16_t);
    if (fits) {
        Look look = {{planes[0].buf, planes[1].buf, planes[2].buf}, {steps[0], steps[1], steps[2]}, width, height,
                     planes[3].buf, planes[4].buf, chroma_shift, luma_shift, coarse, levels};
        Py_BEGIN_ALLOW_THREADS;
        apply_look(&look, wide, high, bytes);
        Py_END_ALLOW_THREADS;
    } else
        PyErr_SetString(PyExc_ValueError, "the planes or tables are smaller than the picture needs");
    release(planes, 5);
    if (!fits)
        return NULL;
    Py_RETURN_NONE;
}

/* ---- what is laid over ---- */

#define LAY_LINE(name, type, weight)                                                                                  \
    static void name(type *restrict line, const weight *restrict keep, const weight *restrict add, int columns)       \
    {                                                                                                                 \
        for (int x = 0; x < columns; x++)                                                                             \
            line[x] = (type)((line[x] * (uint32_t)keep[x]) / 256 + add[x]);                                           \
    }

LAY_LINE(lay_line_8, uint8_t, uint16_t)
LAY_LINE(lay_line_16, uint16_t, uint32_t)

static PyObject *lay_over(PyObject *self, PyObject *args)
{
    (void)self;
    Py_buffer buffers[3];
    Py_ssize_t step;
    int width, height, left, top, columns, rows, bytes;
    if (!PyArg_ParseTuple(args, "w*n(ii)(ii)y*y*(ii)i", &buffers[0], &step, &width, &height, &left, &top, &buffers[1],
                          &buffers[2], &columns, &rows, &bytes))
        return NULL;
    Py_ssize_t weights = columns > 0 && rows > 0 ? (Py_ssize_t)columns * rows * bytes * 2 : -1;
    int fits = (bytes == 1 || bytes == 2) && left >= 0 && top >= 0 && width > 0 && height > 0
               && holds(&buffers[0], step, height, (Py_ssize_t)width * bytes) && step % bytes == 0 && weights > 0
               && buffers[1].len >= weights && buffers[2].len >= weights;
    if (fits) {
        int across = columns < width - left ? columns : width - left;
        int down = rows < height - top ? rows : height - top;
        for (int y = 0; y < down; y++) {
            uint8_t *line = (uint8_t *)buffers[0].buf + (top + y) * step + (Py_ssize_t)left * bytes;
            Py_ssize_t place = (Py_ssize_t)y * columns;
            if (bytes == 1)
                lay_line_8(line, (const uint16_t *)buffers[1].buf + place, (const uint16_t *)buffers[2].buf + place,
                           across);
            else
                lay_line_16((uint16_t *)line, (const uint32_t *)buffers[1].buf + place,
                            (const uint32_t *)buffers[2].buf + place, across);
        }
    } else
        PyErr_SetString(PyExc_ValueError, "the plane or what is laid over it is smaller than it should be");
    release(buffers, 3);
    if (!fits)
        return NULL;
    Py_RETURN_NONE;
}

/* ---- prints of pictures ---- */

enum { PRINT_LINES = 6, PRINT_STRETCHES = 16 };

static uint64_t sum_of(const void *line, int from, int samples, int bytes)
{
    uint64_t sum = 0;
    for (int x = from; x < from + samples; x++)
        sum += bytes == 1 ? ((const uint8_t *)line)[x] : ((const uint16_t *)line)[x];
    return sum;
}

static PyObject *print_of(PyObject *self, PyObject *args)
{
    (void)self;
    Py_buffer plane;
    Py_ssize_t step;
    int height, across, bytes, bits_above;
    if (!PyArg_ParseTuple(args, "y*niiii", &plane, &step, &height, &across, &bytes, &bits_above))
        return NULL;
    uint8_t means[PRINT_LINES * PRINT_STRETCHES], *mean = means;
    int stretch = across / PRINT_STRETCHES, fits = (bytes == 1 || bytes == 2) && bits_above >= 0 && bits_above <= 8;
    fits = fits && height > 0 && stretch > 0 && holds(&plane, step, height, (Py_ssize_t)across * bytes);
    for (int number = 0; fits && number < PRINT_LINES; number++) {
        const uint8_t *line = (uint8_t *)plane.buf + (Py_ssize_t)(2 * number + 1) * height / (2 * PRINT_LINES) * step;
        for (int place = 0; place < PRINT_STRETCHES; place++) {
            uint64_t found = sum_of(line, place * stretch, stretch, bytes) / ((uint64_t)stretch << bits_above);
            *mean++ = (uint8_t)(found < 255 ? found : 255);
        }
    }
    PyBuffer_Release(&plane);
    if (fits)
        return PyBytes_FromStringAndSize((char *)means, sizeof means);
    PyErr_SetString(PyExc_ValueError, "the plane is smaller than the picture needs");
    return NULL;
}

/* ---- how close two pictures are: where the processor has AVX2, as the codec library's filters are faster elsewhere ---- */

#ifdef AVX2

/* Sums over blocks of 4 x 4 samples of 8 bits: of each picture, of both squared, of their product. */
typedef struct {
    int32_t *first, *second, *squares, *products;
} Blocks;

INLINE void one_block(const uint8_t *one, Py_ssize_t step, const uint8_t *other, Py_ssize_t other_step, Blocks sums,
                      int block)
{
    int32_t first = 0, second = 0, squares = 0, products = 0;
    for (int y = 0; y < 4; y++)
        for (int x = 4 * block; x < 4 * block + 4; x++) {
            int32_t a = one[y * step + x], b = other[y * other_step + x];
            first += a;
            second += b;
            squares += a * a + b * b;
            products += a * b;
        }
    sums.first[block] = first;
    sums.second[block] = second;
    sums.squares[block] = squares;
    sums.products[block] = products;
}

/* SSIM of one window of 8 x 8 samples, of the four blocks from place on in two rows of them. */
AVX2 INLINE float window(Blocks above, Blocks below, Py_ssize_t x)
{
    const float c1 = (float)(.01 * .01 * 255 * 255 * 64 + .5), c2 = (float)(.03 * .03 * 255 * 255 * 64 * 63 + .5);
    float a = (float)(above.first[x] + above.first[x + 1] + below.first[x] + below.first[x + 1]);
    float b = (float)(above.second[x] + above.second[x + 1] + below.second[x] + below.second[x + 1]);
    float s = (float)(above.squares[x] + above.squares[x + 1] + below.squares[x] + below.squares[x + 1]);
    float p = (float)(above.products[x] + above.products[x + 1] + below.products[x] + below.products[x + 1]);
    float spread = s * 64 - a * a - b * b, together = p * 64 - a * b;
    return (2 * a * b + c1) * (2 * together + c2) / ((a * a + b * b + c1) * (spread + c2));
}

/* The sum over a row of windows, each four samples after the one before; eight at a time, for the processor's sake. */
AVX2 static double window_sum(Blocks above, Blocks below, Py_ssize_t windows)
{
    float lanes[8] = {0};
    Py_ssize_t x = 0;
    for (; x + 8 <= windows; x += 8)
        for (Py_ssize_t lane = 0; lane < 8; lane++)
            lanes[lane] += window(above, below, x + lane);
    double sum = 0;
    for (int lane = 0; lane < 8; lane++)
        sum += lanes[lane];
    for (; x < windows; x++)
        sum += window(above, below, x);
    return sum;
}

AVX2 static void block_sums(const uint8_t *one, Py_ssize_t step, const uint8_t *other, Py_ssize_t other_step,
                            Blocks sums, int blocks)
{
    const __m256i ones_8 = _mm256_set1_epi8(1), ones_16 = _mm256_set1_epi16(1), zero = _mm256_setzero_si256();
    int block = 0;
    for (; block + 8 <= blocks; block += 8) {
        __m256i first = zero, second = zero, squares_low = zero, squares_high = zero, low = zero, high = zero;
        for (int y = 0; y < 4; y++) {
            __m256i a = _mm256_loadu_si256((const __m256i *)(one + y * step + 4 * block));
            __m256i b = _mm256_loadu_si256((const __m256i *)(other + y * other_step + 4 * block));
            first = _mm256_add_epi16(first, _mm256_maddubs_epi16(a, ones_8));
            second = _mm256_add_epi16(second, _mm256_maddubs_epi16(b, ones_8));
            __m256i a_low = _mm256_unpacklo_epi8(a, zero), a_high = _mm256_unpackhi_epi8(a, zero);
            __m256i b_low = _mm256_unpacklo_epi8(b, zero), b_high = _mm256_unpackhi_epi8(b, zero);
            squares_low = _mm256_add_epi32(
                squares_low, _mm256_add_epi32(_mm256_madd_epi16(a_low, a_low), _mm256_madd_epi16(b_low, b_low)));
            squares_high = _mm256_add_epi32(
                squares_high, _mm256_add_epi32(_mm256_madd_epi16(a_high, a_high), _mm256_madd_epi16(b_high, b_high)));
            low = _mm256_add_epi32(low, _mm256_madd_epi16(a_low, b_low));
            high = _mm256_add_epi32(high, _mm256_madd_epi16(a_high, b_high));
        }
        _mm256_storeu_si256((__m256i *)(sums.first + block), _mm256_madd_epi16(first, ones_16));
        _mm256_storeu_si256((__m256i *)(sums.second + block), _mm256_madd_epi16(second, ones_16));
        _mm256_storeu_si256((__m256i *)(sums.squares + block), _mm256_hadd_epi32(squares_low, squares_high));
        _mm256_storeu_si256((__m256i *)(sums.products + block), _mm256_hadd_epi32(low, high));
    }
    for (; block < blocks; block++)
        one_block(one, step, other, other_step, sums, block);
}

static uint64_t squared_error(const void *one, const void *other, int from, int columns, int bytes)
{
    uint64_t sum = 0;
    for (Py_ssize_t x = from; x < columns; x++) {
        int64_t away = bytes == 1 ? ((const uint8_t *)one)[x] - ((const uint8_t *)other)[x]
                                  : ((const uint16_t *)one)[x] - ((const uint16_t *)other)[x];
        sum += (uint64_t)(away * away);
    }
    return sum;
}

/* The upper eight bits of 32 samples. */
AVX2 INLINE __m256i upper_bits(const uint16_t *line, __m128i shift)
{
    __m256i first = _mm256_srl_epi16(_mm256_loadu_si256((const __m256i *)line), shift);
    __m256i second = _mm256_srl_epi16(_mm256_loadu_si256((const __m256i *)(line + 16)), shift);
    return _mm256_permute4x64_epi64(_mm256_packus_epi16(first, second), 0xd8);
}

/* Squared error of samples of more than eight bits, fewer than sixteen. */
AVX2 INLINE __m256i squared(__m256i sum, const uint16_t *one, const uint16_t *other)
{
    __m256i away = _mm256_sub_epi16(_mm256_loadu_si256((const __m256i *)one), _mm256_loadu_si256((const __m256i *)other));
    __m256i pairs = _mm256_madd_epi16(away, away), zero = _mm256_setzero_si256();
    sum = _mm256_add_epi64(sum, _mm256_unpacklo_epi32(pairs, zero));
    return _mm256_add_epi64(sum, _mm256_unpackhi_epi32(pairs, zero));
}

/* A line with its samples, which are of 8 bits or of more, moved up by some bits, into a room of its own. */
AVX2 static const uint16_t *with_more_bits(const void *line, int bits, int columns, int more, uint16_t *room)
{
    if (!more)
        return line;
    if (bits == 8)
        for (Py_ssize_t x = 0; x < columns; x++)
            room[x] = (uint16_t)(((const uint8_t *)line)[x] << more);
    else
        for (Py_ssize_t x = 0; x < columns; x++)
            room[x] = (uint16_t)(((const uint16_t *)line)[x] << more);
    return room;
}

/* The upper eight bits of a line of each picture; the squared error of all their bits. */
AVX2 static uint64_t narrow(const uint16_t *one, const uint16_t *other, int columns, int bits, uint8_t *one_into,
                            uint8_t *other_into)
{
    const __m128i shift = _mm_cvtsi32_si128(bits - 8);
    __m256i errors = _mm256_setzero_si256();
    Py_ssize_t x = 0;
    for (; bits < 16 && x + 32 <= columns; x += 32) {
        _mm256_storeu_si256((__m256i *)(one_into + x), upper_bits(one + x, shift));
        _mm256_storeu_si256((__m256i *)(other_into + x), upper_bits(other + x, shift));
        errors = squared(squared(errors, one + x, other + x), one + x + 16, other + x + 16);
    }
    uint64_t parts[4];
    _mm256_storeu_si256((__m256i *)parts, errors);
    uint64_t sum = parts[0] + parts[1] + parts[2] + parts[3] + squared_error(one, other, (int)x, columns, 2);
    for (; x < columns; x++) {
        one_into[x] = (uint8_t)(one[x] >> (bits - 8));
        other_into[x] = (uint8_t)(other[x] >> (bits - 8));
    }
    return sum;
}

typedef struct {
    const uint8_t *lines;
    Py_ssize_t step;
} Plane;

/* Squared error over all samples, and the mean of SSIM. more: bits that the second has fewer. room: for two rows of blocks, eight lines of 8 bits and one of 16. */
static void compare(Plane one, Plane other, int width, int height, int bits, int more, int32_t *room, uint64_t *error,
                    double *ssim)
{
    const Py_ssize_t blocks = width / 4, rows = height / 4, room_step = width;
    const int bytes = bits > 8 ? 2 : 1;
    uint8_t *one_narrow = (uint8_t *)(room + 8 * blocks), *other_narrow = one_narrow + 4 * room_step;
    uint16_t *moved = (uint16_t *)(room + 8 * blocks + 2 * room_step);
    Blocks below = {room, room + blocks, room + 2 * blocks, room + 3 * blocks};
    Blocks above = {room + 4 * blocks, room + 5 * blocks, room + 6 * blocks, room + 7 * blocks};
    uint64_t sum = 0;
    double total = 0;
    Py_ssize_t same = 0;
    const size_t length = (size_t)width * (size_t)bytes;
    while (!more && same < height && !memcmp(one.lines + same * one.step, other.lines + same * other.step, length))
        same++;
    if (same == height) {
        *error = 0;
        *ssim = 1;
        return;
    }
    for (Py_ssize_t row = 0; row < rows; row++) {
        Plane a = {one.lines + 4 * row * one.step, one.step}, b = {other.lines + 4 * row * other.step, other.step};
        for (Py_ssize_t y = 0; y < 4; y++) {
            const uint8_t *line = a.lines + y * a.step, *other_line = b.lines + y * b.step;
            if (bytes == 2)
                sum += narrow((const uint16_t *)line, with_more_bits(other_line, bits - more, width, more, moved), width,
                              bits, one_narrow + y * room_step, other_narrow + y * room_step);
            else /* what the blocks do not cover */
                sum += squared_error(line, other_line, 4 * (int)blocks, width, 1);
        }
        if (bytes == 2)
            a = (Plane){one_narrow, room_step}, b = (Plane){other_narrow, room_step};
        block_sums(a.lines, a.step, b.lines, b.step, below, (int)blocks);
        for (Py_ssize_t block = 0; bytes == 1 && block < blocks; block++)
            sum += (uint64_t)(below.squares[block] - 2 * below.products[block]);
        if (row)
            total += window_sum(above, below, blocks - 1);
        Blocks before = above;
        above = below;
        below = before;
    }
    for (Py_ssize_t y = 4 * rows; y < height; y++) {
        const void *line = other.lines + y * other.step;
        if (more)
            line = with_more_bits(line, bits - more, width, more, moved);
        sum += squared_error(one.lines + y * one.step, line, 0, width, bytes);
    }
    *error = sum;
    *ssim = sum == 0 ? 1 : total / ((double)(blocks - 1) * (double)(rows - 1));
}

static PyObject *closeness(PyObject *self, PyObject *args)
{
    (void)self;
    Py_buffer buffers[2];
    Py_ssize_t steps[2];
    int width, height, bits, more;
    if (!PyArg_ParseTuple(args, "y*y*(nn)(ii)ii", &buffers[0], &buffers[1], &steps[0], &steps[1], &width, &height,
                          &bits, &more))
        return NULL;
    PyObject *found = NULL;
    Py_ssize_t line = (Py_ssize_t)width * (bits > 8 ? 2 : 1), other_line = (Py_ssize_t)width * (bits - more > 8 ? 2 : 1);
    if (width < 8 || height < 8 || bits < 8 || bits > 16 || more < 0 || bits - more < 8
        || !holds(&buffers[0], steps[0], height, line) || !holds(&buffers[1], steps[1], height, other_line))
        PyErr_SetString(PyExc_ValueError, "the planes are smaller than the picture needs, or it is smaller than 8x8");
    else {
        int32_t *room = malloc((size_t)(width / 4) * 8 * sizeof(int32_t) + 10 * (size_t)width);
        uint64_t error = 0;
        double ssim = 0;
        if (!room)
            PyErr_NoMemory();
        else {
            Py_BEGIN_ALLOW_THREADS;
            compare((Plane){buffers[0].buf, steps[0]}, (Plane){buffers[1].buf, steps[1]}, width, height, bits, more,
                    room, &error, &ssim);
            Py_END_ALLOW_THREADS;
            found = Py_BuildValue("Kd", (unsigned long long)error, ssim);
            free(room);
        }
    }
    release(buffers, 2);
    return found;
}

static PyMethodDef closeness_alone[] = {
    {"closeness", closeness, METH_VARARGS, NULL},
    {NULL, NULL, 0, NULL},
};
#endif

static PyMethodDef functions[] = {
    {"change_colours", change_colours, METH_VARARGS, NULL},
    {"lay_over", lay_over, METH_VARARGS, NULL},
    {"print_of", print_of, METH_VARARGS, NULL},
    {NULL, NULL, 0, NULL},
};

static struct PyModuleDef module = {PyModuleDef_HEAD_INIT, "samples", NULL, 0, functions, NULL, NULL, NULL, NULL};

PyMODINIT_FUNC PyInit_samples(void)
{
    PyObject *made = PyModule_Create(&module);
    int has_avx512 = 0;
#ifdef AVX2
    has_avx512 = __builtin_cpu_supports("avx512f") != 0;
    if (made && __builtin_cpu_supports("avx2") && PyModule_AddFunctions(made, closeness_alone)) {
        Py_DECREF(made);
        return NULL;
    }
#endif
    if (made && PyModule_AddIntConstant(made, "HAS_AVX512", has_avx512)) {
        Py_DECREF(made);
        return NULL;
    }
    return made;
}
