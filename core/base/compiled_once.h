#pragma once

/// Says inside a struct of many members that it is made, copied and destroyed in one place, the
/// source that says RAPPORTO_COMPILED_HERE. Left to themselves these six are written by the
/// compiler into every object that uses the struct. Such a struct is no aggregate.
#define RAPPORTO_COMPILED_ONCE(Type)  \
    Type();                           \
    Type(const Type&);                \
    Type(Type&&) noexcept;            \
    Type& operator=(const Type&);     \
    Type& operator=(Type&&) noexcept; \
    ~Type()

#define RAPPORTO_COMPILED_HERE(Type)                  \
    Type::Type() = default;                           \
    Type::Type(const Type&) = default;                \
    Type::Type(Type&&) noexcept = default;            \
    Type& Type::operator=(const Type&) = default;     \
    Type& Type::operator=(Type&&) noexcept = default; \
    Type::~Type() = default
