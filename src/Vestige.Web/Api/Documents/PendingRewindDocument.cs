using Vestige.Web.Api.Describing;

namespace Vestige.Web.Api.Documents;

/// <summary>What is being applied again.</summary>
/// <param name="Position">After this position.</param>
/// <param name="Tables">The tables, as schema.table.</param>
/// <param name="By">Who asked for it.</param>
/// <param name="At">When.</param>
public sealed record PendingRewindDocument(string Position, IReadOnlyList<string> Tables, string By, [property: Time] string At);
