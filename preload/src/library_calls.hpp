// SPDX-License-Identifier: GPL-3.0-or-later
//
// Calls of well-known libraries that may take long, each recorded as a marker. One line for each; prototypes as in the
// library, but for types that are only passed on.
#pragma once

#include <cstddef>
#include <cstdint>

#include "real_function.hpp"

/// CALL(category, description, result, name, (parameters), (arguments))
#define FUGATO_LIBRARY_CALLS(CALL)                                                                                     \
    CALL("upload", "Fills a texture", void, glTexImage2D,                                                              \
         (unsigned target, int level, int form, int width, int height, int border, unsigned format, unsigned type,     \
          const void* pixels),                                                                                         \
         (target, level, form, width, height, border, format, type, pixels))                                           \
    CALL("upload", "Fills a texture", void, glTexImage3D,                                                              \
         (unsigned target, int level, int form, int width, int height, int depth, int border, unsigned format,         \
          unsigned type, const void* pixels),                                                                          \
         (target, level, form, width, height, depth, border, format, type, pixels))                                    \
    CALL("upload", "Fills a part of a texture", void, glTexSubImage2D,                                                 \
         (unsigned target, int level, int x, int y, int width, int height, unsigned format, unsigned type,             \
          const void* pixels),                                                                                         \
         (target, level, x, y, width, height, format, type, pixels))                                                   \
    CALL(                                                                                                              \
        "upload", "Fills a texture with packed pixels", void, glCompressedTexImage2D,                                  \
        (unsigned target, int level, unsigned form, int width, int height, int border, int bytes, const void* pixels), \
        (target, level, form, width, height, border, bytes, pixels))                                                   \
    CALL("upload", "Makes the smaller levels of a texture", void, glGenerateMipmap, (unsigned target), (target))       \
    CALL("upload", "Fills a buffer", void, glBufferData,                                                               \
         (unsigned target, ptrdiff_t bytes, const void* data, unsigned use), (target, bytes, data, use))               \
    CALL("download", "Reads pixels back", void, glReadPixels,                                                          \
         (int x, int y, int width, int height, unsigned format, unsigned type, void* pixels),                          \
         (x, y, width, height, format, type, pixels))                                                                  \
    CALL("shader", "Compiles a shader", void, glCompileShader, (unsigned shader), (shader))                            \
    CALL("shader", "Links a program of shaders", void, glLinkProgram, (unsigned program), (program))                   \
    CALL("shader", "Makes pipelines", int32_t, vkCreateGraphicsPipelines,                                              \
         (void* device, uint64_t cache, uint32_t count, const void* infos, const void* memory, uint64_t* made),        \
         (device, cache, count, infos, memory, made))                                                                  \
    CALL("shader", "Makes pipelines", int32_t, vkCreateComputePipelines,                                               \
         (void* device, uint64_t cache, uint32_t count, const void* infos, const void* memory, uint64_t* made),        \
         (device, cache, count, infos, memory, made))                                                                  \
    CALL("picture", "Makes a texture of a surface", void*, SDL_CreateTextureFromSurface,                               \
         (void* renderer, void* surface), (renderer, surface))                                                         \
    CALL("picture", "Reads pixels back", int, SDL_RenderReadPixels,                                                    \
         (void* renderer, const void* area, uint32_t format, void* pixels, int pitch),                                 \
         (renderer, area, format, pixels, pitch))                                                                      \
    CALL("load", "Loads a picture", void*, SDL_LoadBMP_RW, (void* source, int close), (source, close))                 \
    CALL("load", "Loads a sound", void*, SDL_LoadWAV_RW,                                                               \
         (void* source, int close, void* spec, uint8_t** sound, uint32_t* bytes), (source, close, spec, sound, bytes)) \
    CALL("load", "Loads a picture", void*, IMG_Load, (const char* path), (path))                                       \
    CALL("load", "Loads a picture", void*, IMG_Load_RW, (void* source, int close), (source, close))                    \
    CALL("load", "Loads a picture as a texture", void*, IMG_LoadTexture, (void* renderer, const char* path),           \
         (renderer, path))                                                                                             \
    CALL("load", "Loads a sound", void*, Mix_LoadWAV_RW, (void* source, int close), (source, close))                   \
    CALL("load", "Loads music", void*, Mix_LoadMUS, (const char* path), (path))                                        \
    CALL("load", "Loads a font", void*, TTF_OpenFont, (const char* path, int size), (path, size))                      \
    CALL("load", "Loads a font", void*, TTF_OpenFontRW, (void* source, int close, int size), (source, close, size))

#define CALL(category, description, result, name, parameters, arguments) extern "C" result name parameters;
FUGATO_LIBRARY_CALLS(CALL)
#undef CALL

namespace fugato::preload {
#define CALL(category, description, result, name, parameters, arguments) \
    inline RealFunction<decltype(::name)> real_##name(#name);
FUGATO_LIBRARY_CALLS(CALL)
#undef CALL
}  // namespace fugato::preload
