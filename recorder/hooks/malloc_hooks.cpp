// SPDX-License-Identifier: MIT
//
// Linked where a program wants malloc and its kin charged to its markers (operator new uses malloc
// and is charged with it; do not link new_hooks as well). For glibc, whose own functions do the work.
#include <errno.h>
#include <fugato/fugato.h>
#include <malloc.h>

extern "C" {

void* __libc_malloc(size_t size);
void* __libc_calloc(size_t count, size_t size);
void* __libc_realloc(void* address, size_t size);
void* __libc_memalign(size_t alignment, size_t size);
void __libc_free(void* address);

void* malloc(size_t size) {
    void* address = __libc_malloc(size);
    if (address) fug_memory_taken(0, address, size, nullptr);
    return address;
}
void* calloc(size_t count, size_t size) {
    void* address = __libc_calloc(count, size);
    if (address) fug_memory_taken(0, address, count * size, nullptr);
    return address;
}
void* realloc(void* before, size_t size) {
    // Told before it is given back: in the next instant another thread may get, and tell of, the same address.
    const size_t had = before ? malloc_usable_size(before) : 0;
    if (before) fug_memory_given(0, before);
    void* address = __libc_realloc(before, size);
    if (address)
        fug_memory_taken(0, address, size, nullptr);
    else if (before && size)  // there was no memory: what was there still is
        fug_memory_taken(0, before, had, nullptr);
    return address;
}
void* memalign(size_t alignment, size_t size) {
    void* address = __libc_memalign(alignment, size);
    if (address) fug_memory_taken(0, address, size, nullptr);
    return address;
}
void* aligned_alloc(size_t alignment, size_t size) { return memalign(alignment, size); }
int posix_memalign(void** out, size_t alignment, size_t size) {
    if (alignment % sizeof(void*) || (alignment & (alignment - 1)) || !alignment) return EINVAL;
    void* address = memalign(alignment, size);
    if (!address) return ENOMEM;
    *out = address;
    return 0;
}
void free(void* address) {
    if (address) fug_memory_given(0, address);
    __libc_free(address);
}

}  // extern "C"
