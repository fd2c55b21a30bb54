using Vestige.Web.Api.Describing;

namespace Vestige.Web.Api.Documents;

/// <summary>A row that was repaired.</summary>
public sealed record RepairedRowDocument(
    string Table,
    string? Statement,
    string? Note,
    [property: Choices("missing", "there")] string Was,
    [property: Choices("missing", "there")] string Became
);
