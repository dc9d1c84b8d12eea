# Functions of SQLite (its C interface: "Evaluate an SQL statement", "Result values from a query", "Binding
# values to prepared statements"), which are found where Python's own module has them, not linked.
ctypedef int (*step_t)(void *) noexcept nogil
ctypedef int (*class_t)(void *, int) noexcept nogil
ctypedef long long (*whole_t)(void *, int) noexcept nogil
ctypedef double (*real_t)(void *, int) noexcept nogil
ctypedef const void *(*bytes_t)(void *, int) noexcept nogil
ctypedef int (*length_t)(void *, int) noexcept nogil
ctypedef int (*put_whole_t)(void *, int, long long) noexcept nogil
ctypedef int (*put_real_t)(void *, int, double) noexcept nogil
ctypedef int (*put_bytes_t)(void *, int, const void *, int, void *) noexcept nogil
