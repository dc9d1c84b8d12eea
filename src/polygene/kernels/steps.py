"""Take rows of SQLite into arrays, and put arrays into rows, without an object for each value."""

import cython

if cython.compiled:
    from cython.cimports.libc.string import memcpy
    from cython.cimports.polygene.kernels.calls import (
        bytes_t,
        class_t,
        length_t,
        put_bytes_t,
        put_real_t,
        put_whole_t,
        real_t,
        step_t,
        whole_t,
    )

# The storage classes of SQLite, by its own numbers.
WHOLE = cython.declare(cython.int, 1)
REAL = cython.declare(cython.int, 2)
TEXT = cython.declare(cython.int, 3)
NULL = cython.declare(cython.int, 5)

# What SQLite says where there is a row, and where there are no more.
A_ROW = cython.declare(cython.int, 100)
DONE = cython.declare(cython.int, 101)

# How it ended; what else there is are numbers of SQLite, 101 where there are no more rows.
FULL = cython.declare(cython.longlong, 0)
NO_ROOM = cython.declare(cython.longlong, -1)
STRANGE = cython.declare(cython.longlong, -2)

EXACT = cython.declare(cython.longlong, 1 << 53)  # whole numbers up to here are reals too


def take_rows(
    calls: cython.longlong[::1],
    statement: cython.longlong,
    kinds: cython.int[::1],
    wholes: cython.longlong[:, ::1],
    reals: cython.double[:, ::1],
    is_null: cython.uchar[:, ::1],
    rooms: cython.longlong[::1],
    sizes: cython.longlong[::1],
    filled: cython.longlong[::1],
    state: cython.longlong[::1],
) -> cython.longlong:
    """Take rows until there is no more room for them; return how many there are then.

    ``calls`` are the addresses of SQLite's functions for a step, and for the class of a value, a whole
    number, a real one, a text, a blob, and the length of these. ``kinds`` (columns) are the storage
    classes of what columns hold. ``wholes`` and ``reals`` (columns, rows) get numbers, and ``wholes``
    how long texts and blobs are; their bytes go, in a row, to the addresses ``rooms`` (columns), where
    there are ``sizes``, of which ``filled`` are taken already: none before the first call.

    ``state`` has in its first item how many rows the arrays have already, in the second whether the
    statement stands on one that is still to be taken, in the third how it ended: FULL of rows, NO_ROOM
    for the bytes of the column that is the fourth item, STRANGE where a value of it is not of its kind,
    or what SQLite says. Without the compiled form there is none.
    """
    c: cython.int
    k: cython.int
    length: cython.int
    kind: cython.int
    found: cython.int
    number: cython.longlong
    n: cython.longlong = state[0]
    n_columns: cython.int = kinds.shape[0]
    if cython.compiled:
        step: step_t = cython.cast(step_t, cython.cast(cython.size_t, calls[0]))
        class_of: class_t = cython.cast(class_t, cython.cast(cython.size_t, calls[1]))
        whole_of: whole_t = cython.cast(whole_t, cython.cast(cython.size_t, calls[2]))
        real_of: real_t = cython.cast(real_t, cython.cast(cython.size_t, calls[3]))
        text_of: bytes_t = cython.cast(bytes_t, cython.cast(cython.size_t, calls[4]))
        blob_of: bytes_t = cython.cast(bytes_t, cython.cast(cython.size_t, calls[5]))
        length_of: length_t = cython.cast(length_t, cython.cast(cython.size_t, calls[6]))
        own: cython.p_void = cython.cast(cython.p_void, cython.cast(cython.size_t, statement))
        place: cython.p_char
        with cython.nogil:
            state[2] = FULL
            while n < wholes.shape[1]:
                if not state[1]:
                    found = step(own)
                    if found != A_ROW:
                        state[2] = found
                        break
                    state[1] = 1
                for c in range(n_columns):
                    kind = kinds[c]
                    found = class_of(own, c)
                    wholes[c, n] = 0
                    is_null[c, n] = found == NULL
                    if found == NULL:
                        continue
                    if kind == REAL and found == WHOLE:
                        number = whole_of(own, c)
                        if number < -EXACT or number > EXACT:
                            state[2] = STRANGE
                            break
                        reals[c, n] = cython.cast(cython.double, number)
                    elif kind != found:
                        state[2] = STRANGE
                        break
                    elif kind == WHOLE:
                        wholes[c, n] = whole_of(own, c)
                    elif kind == REAL:
                        reals[c, n] = real_of(own, c)
                    else:
                        # In this order: what is asked for first says in which form it is to be.
                        place = cython.cast(
                            cython.p_char, text_of(own, c) if kind == TEXT else blob_of(own, c)
                        )
                        length = length_of(own, c)
                        if length > sizes[c] - filled[c]:
                            state[2] = NO_ROOM
                            break
                        if length > 0:
                            memcpy(
                                cython.cast(
                                    cython.p_char,
                                    cython.cast(cython.size_t, rooms[c] + filled[c]),
                                ),
                                place,
                                length,
                            )
                        wholes[c, n] = length
                        filled[c] += length
                if state[2] != FULL:
                    state[3] = c
                    for k in range(c):  # the row comes once more
                        if kinds[k] >= TEXT:
                            filled[k] -= wholes[k, n]
                    break
                state[1] = 0
                n += 1
            state[0] = n
    return n


def put_rows(
    calls: cython.longlong[::1],
    statement: cython.longlong,
    kinds: cython.int[::1],
    values: cython.longlong[::1],
    offsets: cython.longlong[::1],
    nulls: cython.longlong[::1],
    n_rows: cython.longlong,
) -> cython.longlong:
    """Run a statement of SQLite once for each row; return 0, or what SQLite says against one.

    ``calls`` are the addresses of its functions for a step, for the start of the next run, and to bind
    a null, a whole number, a real one, a text and a blob. ``kinds`` (columns) are the storage
    classes of what is bound, ``values`` the addresses of (rows) int64 or float64, or of bytes of texts
    and blobs in a row, from and to where the (rows + 1) int64 at ``offsets`` say; ``nulls`` those
    of (rows) bytes that are 1 for a null, or 0 where there is none.
    """
    c: cython.int
    found: cython.int
    kind: cython.int
    i: cython.longlong
    n_columns: cython.int = kinds.shape[0]
    fault: cython.longlong = 0
    if cython.compiled:
        step: step_t = cython.cast(step_t, cython.cast(cython.size_t, calls[0]))
        reset: step_t = cython.cast(step_t, cython.cast(cython.size_t, calls[1]))
        put_null: class_t = cython.cast(class_t, cython.cast(cython.size_t, calls[2]))
        put_whole: put_whole_t = cython.cast(put_whole_t, cython.cast(cython.size_t, calls[3]))
        put_real: put_real_t = cython.cast(put_real_t, cython.cast(cython.size_t, calls[4]))
        put_text: put_bytes_t = cython.cast(put_bytes_t, cython.cast(cython.size_t, calls[5]))
        put_blob: put_bytes_t = cython.cast(put_bytes_t, cython.cast(cython.size_t, calls[6]))
        own: cython.p_void = cython.cast(cython.p_void, cython.cast(cython.size_t, statement))
        place: cython.p_longlong
        real: cython.p_double
        is_null: cython.p_uchar
        data: cython.p_char
        with cython.nogil:
            for i in range(n_rows):
                for c in range(n_columns):
                    kind = kinds[c]
                    is_null = cython.cast(cython.p_uchar, cython.cast(cython.size_t, nulls[c]))
                    if nulls[c] and is_null[i]:
                        found = put_null(own, c + 1)
                    elif kind == WHOLE:
                        place = cython.cast(
                            cython.p_longlong, cython.cast(cython.size_t, values[c])
                        )
                        found = put_whole(own, c + 1, place[i])
                    elif kind == REAL:
                        real = cython.cast(cython.p_double, cython.cast(cython.size_t, values[c]))
                        found = put_real(own, c + 1, real[i])
                    else:
                        data = cython.cast(cython.p_char, cython.cast(cython.size_t, values[c]))
                        place = cython.cast(
                            cython.p_longlong, cython.cast(cython.size_t, offsets[c])
                        )
                        # The bytes stay where they are until the row is in.
                        found = (put_text if kind == TEXT else put_blob)(
                            own,
                            c + 1,
                            data + place[i],
                            cython.cast(cython.int, place[i + 1] - place[i]),
                            cython.NULL,
                        )
                    if found:
                        fault = found
                        break
                if fault:
                    break
                found = step(own)
                if found != DONE:
                    fault = found
                    break
                found = reset(own)
    return fault
