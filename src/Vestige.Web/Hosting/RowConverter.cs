using System.Text.Json;
using System.Text.Json.Serialization;
using Vestige.Core.Changes;

namespace Vestige.Web.Hosting;

/// <summary>Rows as their bytes; none as null.</summary>
internal sealed class RowConverter : JsonConverter<Row>
{
    public override bool HandleNull => true;

    public override Row Read(ref Utf8JsonReader reader, Type typeToConvert, JsonSerializerOptions options) =>
        reader.TokenType == JsonTokenType.Null ? default : new Row(reader.GetBytesFromBase64());

    public override void Write(Utf8JsonWriter writer, Row value, JsonSerializerOptions options)
    {
        if (value.IsNone)
        {
            writer.WriteNullValue();
        }
        else
        {
            writer.WriteBase64StringValue(value.Bytes.Span);
        }
    }
}
