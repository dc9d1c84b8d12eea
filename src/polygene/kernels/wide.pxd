# The 128-bit integer of the C compiler. Cython only needs to know that it is a signed integer;
# the C compiler knows how wide. Never convert one to a Python object: that would cut it.
cdef extern from *:
    ctypedef long long int128 "__int128"

# A hint to fetch memory that will be wanted soon.
cdef extern from *:
    """
    #if defined(__GNUC__) || defined(__clang__)
    #define polygene_prefetch(address) __builtin_prefetch(address)
    #else
    #define polygene_prefetch(address) ((void)(address))
    #endif
    """
    void prefetch "polygene_prefetch" (const void *) nogil
