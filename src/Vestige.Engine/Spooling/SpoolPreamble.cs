using System.Text.Json;
using Vestige.Core.Joining;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Spooling;

/// <summary>
/// What a spool file says beside its data: its header, the forms of tables, which tables are read, the reader's notes, and the join at
/// which its branch is to end.
/// </summary>
internal sealed record SpoolPreamble(
    SpoolHeader Header,
    IReadOnlyDictionary<int, TableSchema> Relations,
    List<SpooledTable> Tables,
    Dictionary<string, string> Notes,
    JoinPoint? Join
)
{
    /// <summary>
    /// Reads it; null when a crash came while the file was begun. What a file begins with ends with the list of tables, and
    /// data come only after that was synced, so such a file holds none.
    /// </summary>
    public static async Task<SpoolPreamble?> ReadAsync(ISpoolFile file, ISpoolCipher cipher, CancellationToken cancellation)
    {
        var side = await file.ReadSideAsync(cancellation);
        if (!side.Any(record => record.Kind == SpoolRecordKind.Tables))
        {
            return null;
        }

        T Read<T>(SpoolRecord record) => JsonSerializer.Deserialize<T>(cipher.Open(record.Body.Span))!;
        var header = Read<SpoolHeader>(side[0]);
        var relations = new Dictionary<int, TableSchema>();
        foreach (var relation in side.Where(record => record.Kind == SpoolRecordKind.Relation))
        {
            relations[(int)relation.Number] = Read<TableSchema>(relation);
        }

        var notes = new Dictionary<string, string>();
        foreach (var (name, text) in side.Where(record => record.Kind == SpoolRecordKind.Note).Select(Read<KeyValuePair<string, string>>))
        {
            notes[name] = text;
        }

        return new SpoolPreamble(
            header,
            relations,
            [.. Read<List<JsonElement>>(side.Last(record => record.Kind == SpoolRecordKind.Tables)).Select(TableOf)],
            notes,
            side.LastOrDefault(record => record.Kind == SpoolRecordKind.Join) is { } join ? Read<JoinPoint>(join) : header.Join
        );
    }

    /// <summary>Spools that were written before it was known since when a table is held whole have its name alone.</summary>
    private static SpooledTable TableOf(JsonElement entry) =>
        entry.GetProperty(nameof(SpooledTable.Name)).ValueKind == JsonValueKind.String
            ? new SpooledTable(entry.Deserialize<TableName>())
            : entry.Deserialize<SpooledTable>()!;
}
