using System.Text.Json;
using System.Text.Json.Serialization;
using Vestige.Core.Positions;

namespace Vestige.Web.Hosting;

/// <summary>Positions as their number.</summary>
internal sealed class PositionConverter : JsonConverter<LogPosition>
{
    public override LogPosition Read(ref Utf8JsonReader reader, Type typeToConvert, JsonSerializerOptions options) => new(reader.GetUInt64());

    public override void Write(Utf8JsonWriter writer, LogPosition value, JsonSerializerOptions options) => writer.WriteNumberValue(value.Place);
}
