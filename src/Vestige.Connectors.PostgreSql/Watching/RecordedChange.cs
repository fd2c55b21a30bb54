using System.Globalization;
using System.Text.Json;
using Vestige.Core.Schemas;

namespace Vestige.Connectors.PostgreSql.Watching;

/// <summary>A table after one statement that changed it, as the event trigger at the source has recorded it.</summary>
/// <param name="Number">The larger, the later, within one table; but for statements that do not lock it.</param>
/// <param name="Name">What the table is called after it.</param>
/// <param name="State">The table after it. Where it is published is not recorded.</param>
/// <param name="Statement">The statement, for display; null where it was sent with others.</param>
internal sealed record RecordedChange(long Number, TableName Name, TableState State, string? Statement)
{
    /// <summary>Reads what <see cref="ChangeRecorder"/> writes. Null where it is of another version of it.</summary>
    public static RecordedChange? Parse(string text)
    {
        try
        {
            using var document = JsonDocument.Parse(text);
            var (root, facts) = (document.RootElement, document.RootElement.GetProperty("facts"));
            return root.GetProperty("version").GetString() != ChangeRecorder.Version
                ? null
                : new RecordedChange(
                    root.GetProperty("number").GetInt64(),
                    new TableName(facts.GetProperty("nspname").GetString()!, facts.GetProperty("relname").GetString()!),
                    StateOf(root, facts),
                    Text(root, "statement")
                );
        }
        catch (Exception exception)
            when (exception is JsonException or KeyNotFoundException or InvalidOperationException or FormatException)
        {
            return null;
        }
    }

    private static TableState StateOf(JsonElement root, JsonElement facts) =>
        new(
            Oid(facts, "oid"),
            facts.GetProperty("shape").GetString()!,
            facts.GetProperty("stamp").GetString()!,
            facts.GetProperty("file").GetInt64(),
            [.. root.GetProperty("columns").EnumerateArray().Select(ColumnOf)],
            [.. facts.GetProperty("key").EnumerateArray().Select(number => number.GetInt16())],
            null,
            null,
            facts.GetProperty("identified").GetBoolean(),
            $"record {root.GetProperty("number").GetInt64()}"
        )
        {
            Attributes = facts.GetProperty("attributes").GetInt32(),
            Guards =
            [
                .. root.GetProperty("guards")
                    .EnumerateArray()
                    .Select(guard => new GuardState(Oid(guard, "number"), Text(guard, "name")!, Text(guard, "text") ?? "")),
            ],
        };

    private static ColumnState ColumnOf(JsonElement column) =>
        new(
            column.GetProperty("number").GetInt16(),
            column.GetProperty("name").GetString()!,
            column.GetProperty("type").GetString()!,
            Oid(column, "type_number"),
            column.GetProperty("modifier").GetInt32(),
            column.GetProperty("generated").GetBoolean(),
            long.Parse(column.GetProperty("writer").GetString()!, CultureInfo.InvariantCulture),
            column.GetProperty("has_missing").GetBoolean(),
            column.GetProperty("nullable").GetBoolean(),
            Text(column, "default_text")
        )
        {
            Missing = Text(column, "missing"),
        };

    /// <summary>JSON has no type for them, so the server writes them as text (PostgreSQL manual, to_jsonb).</summary>
    private static uint Oid(JsonElement of, string name) => uint.Parse(of.GetProperty(name).GetString()!, CultureInfo.InvariantCulture);

    private static string? Text(JsonElement of, string name) => of.GetProperty(name).GetString();
}
