# The 128-bit integer of the C compiler. Cython only needs to know that it is a signed integer;
# the C compiler knows how wide. Never convert one to a Python object: that would cut it.
cdef extern from *:
    ctypedef long long int128 "__int128"
