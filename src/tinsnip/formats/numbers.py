"""Numbers in text, exactly and fast: bytes to double and double to the shortest bytes that read back the same.

Reading follows Lemire (2021), "Number parsing at a gigabyte per second"; writing follows Giulietti (2020),
"The Schubfach way to render doubles". Both rest on tables of powers to 128 bits, worked out here from whole
numbers. What the fast way cannot decide (more than 19 digits, extreme exponents) is left to Python.
"""

import numpy as np

from tinsnip.kernels import kernel

__all__ = ["MALFORMED", "SLOW", "parse_number", "parse_whole", "write_number", "write_whole"]

GOOD, SLOW, MALFORMED = 0, 1, 2
"""What became of a number: read; to be read by Python's float; not a number."""

_LOW_POWER, _HIGH_POWER = -290, 290


def _parse_tables() -> tuple[np.ndarray, np.ndarray]:
    high, low = [], []
    for q in range(_LOW_POWER, _HIGH_POWER + 1):
        if q < 0:
            power = 5**-q
            z = (power - 1).bit_length()
            b = z + 127 if q >= -27 else 2 * z + 128
            c = 2**b // power + 1
            while c >= 1 << 128:
                c //= 2
        else:
            c = 5**q
            c = c << (128 - c.bit_length()) if c.bit_length() <= 128 else c >> (c.bit_length() - 128)
        high.append(c >> 64)
        low.append(c & (2**64 - 1))
    return np.array(high, dtype=np.uint64), np.array(low, dtype=np.uint64)


def _write_tables() -> tuple[np.ndarray, np.ndarray]:
    high, low = [], []
    for k in range(-292, 325):
        r = (k * 1741647) >> 19
        shift = 127 - r
        if k >= 0:
            top, bottom = 10**k, 1
        else:
            top, bottom = 1, 10**-k
        if shift >= 0:
            top <<= shift
        else:
            bottom <<= -shift
        g = -(-top // bottom)
        high.append(g >> 64)
        low.append(g & (2**64 - 1))
    return np.array(high, dtype=np.uint64), np.array(low, dtype=np.uint64)


_FIVE_HIGH, _FIVE_LOW = _parse_tables()
_TEN_HIGH, _TEN_LOW = _write_tables()
_MASK32 = np.uint64(0xFFFFFFFF)
_U32 = np.uint64(32)
_U1 = np.uint64(1)


@kernel
def _times(a, b):
    """Both halves of the 128-bit product of two 64-bit numbers."""
    a0, a1 = a & _MASK32, a >> _U32
    b0, b1 = b & _MASK32, b >> _U32
    low = a0 * b0
    middle = a1 * b0 + (low >> _U32)
    other = a0 * b1 + (middle & _MASK32)
    return a1 * b1 + (middle >> _U32) + (other >> _U32), (other << _U32) | (low & _MASK32)


@kernel
def _leading_zeros(x):
    n = 0
    for step in (32, 16, 8, 4, 2, 1):
        if x >> np.uint64(64 - step) == np.uint64(0):
            n += step
            x <<= np.uint64(step)
    return n


@kernel
def _to_bits(w, q):
    """Bits of the double nearest to w * 10**q, and whether that could be decided."""
    if w == np.uint64(0):
        return np.uint64(0), True
    if q < _LOW_POWER or q > _HIGH_POWER:
        return np.uint64(0), False
    lz = _leading_zeros(w)
    w <<= np.uint64(lz)
    upper, lower = _times(w, _FIVE_HIGH[q - _LOW_POWER])
    if upper & np.uint64(0x1FF) == np.uint64(0x1FF):
        more, _ = _times(w, _FIVE_LOW[q - _LOW_POWER])
        lower += more
        if lower < more:
            upper += _U1
        if lower == np.uint64(0xFFFFFFFFFFFFFFFF) and (q < -27 or q > 55):
            return np.uint64(0), False
    top = upper >> np.uint64(63)
    shift = top + np.uint64(9)
    m = upper >> shift
    exponent = ((217706 * q) >> 16) + 63 + np.int64(top) - lz + 1023
    if exponent <= 0 or exponent >= 2046:
        return np.uint64(0), False
    if lower <= _U1 and q >= -4 and q <= 23 and (m & np.uint64(3)) == _U1 and (m << shift) == upper:
        m &= ~_U1
    m += m & _U1
    m >>= _U1
    if m >= np.uint64(1 << 53):
        m = np.uint64(1 << 52)
        exponent += 1
    return (m & np.uint64((1 << 52) - 1)) | (np.uint64(exponent) << np.uint64(52)), True


@kernel
def parse_number(text, i, end, bits):
    """Read a number that begins at byte i; its bits go to ``bits[0]``.

    Returns where it ends, and `GOOD`, `SLOW` or `MALFORMED`.

    Parameters
    ----------
    text : ndarray of uint8
    i : int
        Where the number begins.
    end : int
        Where the text ends.
    bits : ndarray of uint64, shape (1,)
        Written.
    """
    begin = i
    negative = False
    if i < end and (text[i] == 45 or text[i] == 43):
        negative = text[i] == 45
        i += 1
    w = np.uint64(0)
    digits = 0
    seen = False
    power = 0
    while i < end and 48 <= text[i] <= 57:
        seen = True
        if digits < 19:
            w = w * np.uint64(10) + np.uint64(text[i] - 48)
            if w != np.uint64(0):
                digits += 1
        else:
            digits += 1
            power += 1
        i += 1
    if i < end and text[i] == 46:
        i += 1
        while i < end and 48 <= text[i] <= 57:
            seen = True
            if digits < 19:
                w = w * np.uint64(10) + np.uint64(text[i] - 48)
                power -= 1
                if w != np.uint64(0):
                    digits += 1
            else:
                digits += 1
            i += 1
    if not seen:
        while i < end and text[i] > 32:
            i += 1
        return i, SLOW if i > begin else MALFORMED  # nan, inf, or nonsense: Python decides
    if i < end and (text[i] == 101 or text[i] == 69):
        i += 1
        minus = False
        if i < end and (text[i] == 45 or text[i] == 43):
            minus = text[i] == 45
            i += 1
        e = 0
        if i >= end or text[i] < 48 or text[i] > 57:
            return i, MALFORMED
        while i < end and 48 <= text[i] <= 57:
            e = min(e * 10 + (text[i] - 48), 99999)
            i += 1
        power += -e if minus else e
    if i < end and text[i] > 35:  # a blank, a quotation mark or a comment ends a number
        return i, MALFORMED
    found, known = _to_bits(w, power)
    if known and digits > 19:  # what was left out matters only if the next number up rounds to another double
        above, known = _to_bits(w + _U1, power)
        known = known and above == found
    if not known:
        return i, SLOW
    bits[0] = found | (np.uint64(1) << np.uint64(63) if negative else np.uint64(0))
    return i, GOOD


@kernel
def parse_whole(text, i, end):
    """Read a whole number that begins at byte i: where it ends, its value, and whether it is one.

    Parameters
    ----------
    text : ndarray of uint8
    i : int
        Where the number begins.
    end : int
        Where the text ends.
    """
    negative = False
    if i < end and (text[i] == 45 or text[i] == 43):
        negative = text[i] == 45
        i += 1
    value = np.int64(0)
    begin = i
    while i < end and 48 <= text[i] <= 57:
        value = min(value * 10 + np.int64(text[i] - 48), np.int64(1) << np.int64(40))
        i += 1
    return i, -value if negative else value, i > begin


@kernel
def _round_to_odd(high, low, cp):
    x1, _ = _times(low, cp)
    y1, y0 = _times(high, cp)
    y0 += x1
    if y0 < x1:
        y1 += _U1
    return y1 | (_U1 if y0 > _U1 else np.uint64(0))


@kernel
def _shortest(bits):
    """Shortest decimal digits and exponent of a finite, non-zero double."""
    fraction = bits & np.uint64((1 << 52) - 1)
    biased = np.int64((bits >> np.uint64(52)) & np.uint64(0x7FF))
    if biased != 0:
        c = np.uint64(1 << 52) | fraction
        q = biased - 1075
        if -52 <= q <= 0 and (c & ((_U1 << np.uint64(-q)) - _U1)) == np.uint64(0):
            digits = c >> np.uint64(-q)  # a whole number
            k = 0
            while digits % np.uint64(10) == np.uint64(0):
                digits //= np.uint64(10)
                k += 1
            return digits, k
    else:
        c = fraction
        q = np.int64(-1074)
    closer = fraction == np.uint64(0) and biased > 1
    odd = c & _U1
    cbl = np.uint64(4) * c - np.uint64(2) + (_U1 if closer else np.uint64(0))
    cb = np.uint64(4) * c
    cbr = np.uint64(4) * c + np.uint64(2)
    k = (q * 1262611 - (524031 if closer else 0)) >> 22
    h = np.uint64(q + ((-k * 1741647) >> 19) + 1)
    high, low = _TEN_HIGH[-k + 292], _TEN_LOW[-k + 292]
    vbl = _round_to_odd(high, low, cbl << h) + odd
    vb = _round_to_odd(high, low, cb << h)
    vbr = _round_to_odd(high, low, cbr << h) - odd
    s = vb >> np.uint64(2)
    if s >= np.uint64(10):
        sp = s // np.uint64(10)
        under = vbl <= np.uint64(40) * sp
        over = np.uint64(40) * sp + np.uint64(40) <= vbr
        if under != over:
            digits = sp + (_U1 if over else np.uint64(0))
            k += 1
            while digits % np.uint64(10) == np.uint64(0):
                digits //= np.uint64(10)
                k += 1
            return digits, k
    under = vbl <= np.uint64(4) * s
    over = np.uint64(4) * s + np.uint64(4) <= vbr
    if under != over:
        return s + (_U1 if over else np.uint64(0)), k
    middle = np.uint64(4) * s + np.uint64(2)
    up = vb > middle or (vb == middle and (s & _U1) == _U1)
    return s + (_U1 if up else np.uint64(0)), k


@kernel
def write_whole(value, out, at):
    """Write a whole number that is not negative at ``out[at]``; returns where it ends.

    Parameters
    ----------
    value : int
        At least 0.
    out : ndarray of uint8
        Written.
    at : int
    """
    n = 1
    limit = np.uint64(10)
    while n < 20 and value >= limit:
        n += 1
        limit *= np.uint64(10)
    for i in range(at + n - 1, at - 1, -1):
        rest = value // np.uint64(10)
        out[i] = np.uint8(48) + np.uint8(value - rest * np.uint64(10))
        value = rest
    return at + n


@kernel
def write_number(bits, out, at):
    """Write a finite double, given by its bits, at ``out[at]``; returns where it ends (at most 26 bytes on).

    Parameters
    ----------
    bits : int
        Of a double.
    out : ndarray of uint8
        Written.
    at : int
    """
    if bits >> np.uint64(63):
        out[at] = 45
        at += 1
        bits &= np.uint64(0x7FFFFFFFFFFFFFFF)
    if bits == np.uint64(0):
        out[at] = 48
        return at + 1
    digits, k = _shortest(bits)
    end = write_whole(digits, out, at)
    n = end - at
    point = n + k  # digits before the point
    if k >= 0 and point <= 17:
        for i in range(k):
            out[end + i] = 48
        return end + k
    if 0 < point <= 17:
        for i in range(end, at + point, -1):
            out[i] = out[i - 1]
        out[at + point] = 46
        return end + 1
    if -6 < point <= 0:
        shift = 2 - point
        for i in range(end - 1, at - 1, -1):
            out[i + shift] = out[i]
        out[at] = 48
        out[at + 1] = 46
        for i in range(at + 2, at + shift):
            out[i] = 48
        return end + shift
    if n > 1:
        for i in range(end, at + 1, -1):
            out[i] = out[i - 1]
        out[at + 1] = 46
        end += 1
    out[end] = 101
    end += 1
    e = point - 1
    if e < 0:
        out[end] = 45
        end += 1
        e = -e
    return write_whole(np.uint64(e), out, end)
