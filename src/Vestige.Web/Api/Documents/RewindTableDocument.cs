using Vestige.Engine.Rewinding;

namespace Vestige.Web.Api.Documents;

/// <summary>What applying again means for one table.</summary>
/// <param name="Table">The source's table, as schema.table.</param>
/// <param name="Changes">Changes of rows since then.</param>
/// <param name="Bytes">What they take in the spool.</param>
/// <param name="Problem">Why they cannot be applied again; null where they can.</param>
public sealed record RewindTableDocument(string Table, long Changes, long Bytes, string? Problem)
{
    /// <summary>As the engine has it.</summary>
    internal static RewindTableDocument Of(RewindTable table) =>
        new(table.Table.ToString(), table.Changes, table.Bytes, table.Problem);
}
