using Vestige.Core.Schemas;

namespace Vestige.Connectors.PostgreSql.Catalogue;

/// <summary>An object that a default, a constraint or an index uses, as pg_depend has it.</summary>
/// <param name="Object">The object itself.</param>
/// <param name="Extension">The extension that it belongs to; null when someone made it.</param>
/// <param name="ExtensionSchema">The schema that the extension's objects are in; null without an extension.</param>
internal sealed record FoundNeed(SchemaNeed Object, string? Extension, string? ExtensionSchema)
{
    public const string ExtensionKind = "extension";

    /// <summary>What the target has to have: the extension, which brings all its objects, or the object.</summary>
    public SchemaNeed Need => Extension is null ? Object : OfExtension(Extension);

    public bool IsFunction => Object.Kind == "function";

    public static SchemaNeed OfExtension(string name) => new(ExtensionKind, name, [name], []);
}
