using System.Text.Json;
using System.Text.Json.Serialization;

namespace Vestige.Core.Positions;

/// <summary>
/// Positions in JSON: on the first branch the offset as a number, on a later one the text form. Earlier versions wrote an object
/// with the offset as <c>Place</c>, which is read as well.
/// </summary>
public sealed class LogPositionJson : JsonConverter<LogPosition>
{
    public override LogPosition Read(ref Utf8JsonReader reader, Type typeToConvert, JsonSerializerOptions options)
    {
        switch (reader.TokenType)
        {
            case JsonTokenType.Number:
                return new LogPosition(reader.GetUInt64());
            case JsonTokenType.String:
                return Parse(reader.GetString()!);
            case JsonTokenType.StartObject:
                using (var earlier = JsonDocument.ParseValue(ref reader))
                {
                    return earlier.RootElement.TryGetProperty("Place", out var place) && place.TryGetUInt64(out var offset)
                        ? new LogPosition(offset)
                        : throw new JsonException("The object is not a position.");
                }

            default:
                throw new JsonException($"A {reader.TokenType} is not a position.");
        }
    }

    public override void Write(Utf8JsonWriter writer, LogPosition value, JsonSerializerOptions options)
    {
        ArgumentNullException.ThrowIfNull(writer);
        if (value.Branch == 0)
        {
            writer.WriteNumberValue(value.Offset);
        }
        else
        {
            writer.WriteStringValue(value.ToString());
        }
    }

    private static LogPosition Parse(string text)
    {
        try
        {
            return LogPosition.Parse(text);
        }
        catch (FormatException exception)
        {
            throw new JsonException(exception.Message, exception);
        }
    }
}
