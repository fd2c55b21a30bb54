using System.Text.Json;
using System.Text.Json.Serialization;

namespace Vestige.Web.Api;

/// <summary>
/// Settings of a connection as texts; numbers and booleans are taken where a person would write them, as <c>port: 5432</c>.
/// </summary>
public sealed class SettingText : JsonConverter<Dictionary<string, string>>
{
    public override Dictionary<string, string> Read(ref Utf8JsonReader reader, Type typeToConvert, JsonSerializerOptions options)
    {
        if (reader.TokenType != JsonTokenType.StartObject)
        {
            throw new JsonException();
        }

        var settings = new Dictionary<string, string>();
        while (reader.Read() && reader.TokenType == JsonTokenType.PropertyName)
        {
            var name = reader.GetString()!;
            reader.Read();
            settings[name] = reader.TokenType switch
            {
                JsonTokenType.String => reader.GetString()!,
                JsonTokenType.Number => System.Text.Encoding.UTF8.GetString(
                    reader.HasValueSequence ? System.Buffers.BuffersExtensions.ToArray(reader.ValueSequence) : reader.ValueSpan
                ),
                JsonTokenType.True => "true",
                JsonTokenType.False => "false",
                _ => throw new JsonException($"settings.{name} must be a text, a number, true or false."),
            };
        }

        return settings;
    }

    public override void Write(Utf8JsonWriter writer, Dictionary<string, string> value, JsonSerializerOptions options)
    {
        ArgumentNullException.ThrowIfNull(writer);
        ArgumentNullException.ThrowIfNull(value);
        writer.WriteStartObject();
        foreach (var (name, text) in value)
        {
            writer.WriteString(name, text);
        }

        writer.WriteEndObject();
    }
}
