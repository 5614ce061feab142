"""How far two sequences agree, found with slices in growing steps so that the comparing is done in C."""

from collections.abc import Sequence

__all__ = ["common_end", "common_start"]


def common_start(left: Sequence[object], left_at: int, right: Sequence[object], right_at: int) -> int:
    """How many elements are equal from these places on."""
    longest = min(len(left) - left_at, len(right) - right_at)
    done, step = 0, 64
    while done < longest:
        step = min(step, longest - done)
        one, other = left_at + done, right_at + done
        if left[one : one + step] != right[other : other + step]:
            return done + _first_difference(left[one : one + step], right[other : other + step])
        done += step
        step *= 4
    return done


def common_end(left: Sequence[object], right: Sequence[object], longest: int) -> int:
    """How many elements are equal at the ends, at most `longest`."""
    done, step = 0, 64
    while done < longest:
        step = min(step, longest - done)
        one = left[len(left) - done - step : len(left) - done]
        other = right[len(right) - done - step : len(right) - done]
        if one != other:
            return done + _first_difference(one[::-1], other[::-1])
        done += step
        step *= 4
    return done


def _first_difference(left: Sequence[object], right: Sequence[object]) -> int:
    low, high = 0, len(left)
    while high - low > 1:
        middle = (low + high) // 2
        if left[low:middle] == right[low:middle]:
            low = middle
        else:
            high = middle
    return low
