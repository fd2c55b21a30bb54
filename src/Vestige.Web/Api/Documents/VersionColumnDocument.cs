using Vestige.Core.Schemas;

namespace Vestige.Web.Api.Documents;

/// <summary>A column of a version of a table.</summary>
/// <param name="Name">The name.</param>
/// <param name="Type">As the database declares it.</param>
/// <param name="Nullable">Whether it takes NULL.</param>
/// <param name="KeyOrdinal">Its place in the key, from 1 on; 0 where it is not part of it.</param>
/// <param name="Default">The default as an expression; null where there is none.</param>
public sealed record VersionColumnDocument(string Name, string Type, bool Nullable, int KeyOrdinal, string? Default)
{
    /// <summary>As the core has it.</summary>
    internal static VersionColumnDocument Of(Column column) =>
        new(column.Name, column.Type, column.Nullable, column.KeyOrdinal, column.Default);
}
