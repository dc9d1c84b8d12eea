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

# Up to eight bytes as one number, the first the lowest; ``room`` is how many may be read.
cdef extern from *:
    """
    #include <string.h>
    static inline unsigned long long polygene_word_at(
        const unsigned char *bytes, long long n, long long room) {
        unsigned long long word = 0;
    #if defined(__BYTE_ORDER__) && __BYTE_ORDER__ == __ORDER_LITTLE_ENDIAN__
        if (room >= 8) {
            memcpy(&word, bytes, 8);
            return n < 8 ? word & ((1ULL << (8 * n)) - 1) : word;
        }
    #endif
        for (long long k = 0; k < n && k < 8; k++) {
            word |= (unsigned long long)bytes[k] << (8 * k);
        }
        return word;
    }
    """
    unsigned long long word_at "polygene_word_at" (
        const unsigned char *bytes, long long n, long long room
    ) nogil
