namespace Vestige.Web.Api.Documents;

/// <summary>Tables of a target that were dropped and can be restored.</summary>
/// <param name="Id">By which they are restored.</param>
/// <param name="Tables">Their names, as schema.table.</param>
/// <param name="Crossing">The crossing that has written them.</param>
/// <param name="Why">What was done, as a sentence.</param>
/// <param name="By">Who asked for it.</param>
/// <param name="At">When they were dropped.</param>
/// <param name="Until">Until when they can be restored.</param>
public sealed record DroppedTablesDocument(
    string Id,
    IReadOnlyList<string> Tables,
    string Crossing,
    string Why,
    string By,
    DateTimeOffset At,
    DateTimeOffset Until
);
