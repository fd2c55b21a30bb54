namespace Vestige.Web.Api.Documents;

/// <summary>Changes that can be applied again.</summary>
/// <param name="Position">After this position.</param>
/// <param name="Bytes">Log since then.</param>
/// <param name="Tables">The tables.</param>
public sealed record RewindDocument(string Position, long Bytes, IReadOnlyList<RewindTableDocument> Tables);
