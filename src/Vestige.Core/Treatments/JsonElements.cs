using System.Globalization;
using System.Text.Json;
using Vestige.Core.Expressions;

namespace Vestige.Core.Treatments;

/// <summary>The elements of a JSON array (RFC 8259), each as the values of some columns. Numbers keep every digit.</summary>
internal sealed class JsonElements(IReadOnlyList<(ChildColumn Column, ExpressionType Type)> columns)
{
    /// <summary>
    /// None for JSON's null. Throws <see cref="EvaluationException"/> when it is no array, or a value is not of its column's type.
    /// </summary>
    public IReadOnlyList<Datum[]> Read(string text)
    {
        try
        {
            using var document = JsonDocument.Parse(text);
            return document.RootElement.ValueKind switch
            {
                JsonValueKind.Array => [.. document.RootElement.EnumerateArray().Select((element, i) => Values(element, i + 1))],
                JsonValueKind.Null => [],
                var kind => throw new EvaluationException($"the value is a JSON {Word(kind)}, not an array"),
            };
        }
        catch (JsonException)
        {
            throw new EvaluationException("the value is not JSON");
        }
    }

    private Datum[] Values(JsonElement element, int ordinal)
    {
        var values = new Datum[columns.Count];
        for (var i = 0; i < values.Length; i++)
        {
            var (column, type) = columns[i];
            if (column.Field is not { } field)
            {
                values[i] = Value(element, type, column, ordinal);
            }
            else if (element.ValueKind != JsonValueKind.Object)
            {
                throw new EvaluationException(
                    $"element {ordinal} is a JSON {Word(element.ValueKind)}, and {column.Column} is a member of an object"
                );
            }
            else
            {
                values[i] = element.TryGetProperty(field, out var member) ? Value(member, type, column, ordinal) : Datum.Null;
            }
        }

        return values;
    }

    private static Datum Value(JsonElement value, ExpressionType type, ChildColumn column, int ordinal) =>
        (type, value.ValueKind) switch
        {
            (_, JsonValueKind.Null) => Datum.Null,
            (ExpressionType.Text, JsonValueKind.String) => Datum.Of(value.GetString()!),
            (ExpressionType.Text, _) => Datum.Of(value.GetRawText()),
            (ExpressionType.Boolean, JsonValueKind.True or JsonValueKind.False) => Datum.Of(value.GetBoolean()),
            (ExpressionType.Integer, JsonValueKind.Number)
                when long.TryParse(value.GetRawText(), NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out var whole) =>
                Datum.Of(whole),
            (ExpressionType.Decimal, JsonValueKind.Number) when ExactDecimal.Parse(value.GetRawText()) is { } exact => Datum.Of(exact),
            _ => throw new EvaluationException(
                $"{column.Column} of element {ordinal} is a JSON {Word(value.ValueKind)} that is not {type.Word()}"
            ),
        };

    private static string Word(JsonValueKind kind) =>
        kind switch
        {
            JsonValueKind.True or JsonValueKind.False => "boolean",
            _ => kind.ToString().ToLowerInvariant(),
        };
}
