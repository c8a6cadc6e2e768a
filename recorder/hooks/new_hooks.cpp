// SPDX-License-Identifier: MIT
//
// Linked where a program wants operator new and delete charged to its markers. Costs two slots and a
// clock read each; use it in recordings made for memory, not always.
#include <fugato/fugato.h>

#include <cstdint>
#include <cstdlib>
#include <new>

namespace {

void* told(void* address, std::size_t size) noexcept {
    if (address) fug_memory_taken(0, address, size, nullptr);
    return address;
}
void* take(std::size_t size) noexcept { return told(std::malloc(size ? size : 1), size); }
void* take(std::size_t size, std::align_val_t alignment) noexcept {
    const auto align = static_cast<std::size_t>(alignment);
    if (size > SIZE_MAX - align) return nullptr;  // rounding up would begin again at 0
    return told(std::aligned_alloc(align, (size + align - 1) / align * align + (size ? 0 : align)), size);
}
template <class... Alignment>
void* orThrow(std::size_t size, Alignment... alignment) {
    for (;;) {
        if (void* address = take(size, alignment...)) return address;
        const std::new_handler handler = std::get_new_handler();
        if (!handler) throw std::bad_alloc();
        handler();
    }
}
void give(void* address) noexcept {
    if (address) fug_memory_given(0, address);
    std::free(address);
}

}  // namespace

void* operator new(std::size_t size) { return orThrow(size); }
void* operator new[](std::size_t size) { return orThrow(size); }
void* operator new(std::size_t size, const std::nothrow_t&) noexcept { return take(size); }
void* operator new[](std::size_t size, const std::nothrow_t&) noexcept { return take(size); }
void* operator new(std::size_t size, std::align_val_t a) { return orThrow(size, a); }
void* operator new[](std::size_t size, std::align_val_t a) { return orThrow(size, a); }
void* operator new(std::size_t size, std::align_val_t a, const std::nothrow_t&) noexcept { return take(size, a); }
void* operator new[](std::size_t size, std::align_val_t a, const std::nothrow_t&) noexcept { return take(size, a); }
void operator delete(void* p) noexcept { give(p); }
void operator delete[](void* p) noexcept { give(p); }
void operator delete(void* p, std::size_t) noexcept { give(p); }
void operator delete[](void* p, std::size_t) noexcept { give(p); }
void operator delete(void* p, const std::nothrow_t&) noexcept { give(p); }
void operator delete[](void* p, const std::nothrow_t&) noexcept { give(p); }
void operator delete(void* p, std::align_val_t) noexcept { give(p); }
void operator delete[](void* p, std::align_val_t) noexcept { give(p); }
void operator delete(void* p, std::size_t, std::align_val_t) noexcept { give(p); }
void operator delete[](void* p, std::size_t, std::align_val_t) noexcept { give(p); }
void operator delete(void* p, std::align_val_t, const std::nothrow_t&) noexcept { give(p); }
void operator delete[](void* p, std::align_val_t, const std::nothrow_t&) noexcept { give(p); }
