using System.Text;
using System.Text.Json;
using Vestige.Core.Crossings;
using Vestige.Web.Api;

namespace Vestige.Web.Definitions;

/// <summary>The body of a request that holds a definition, as JSON or as YAML (RFC 9512).</summary>
public sealed class DefinitionBody(ReadDefinition read)
{
    public const string Yaml = "application/yaml";

    public CrossingDefinition? Definition => read.Definition;

    /// <summary>Why the text could not be read; empty when it could.</summary>
    public IReadOnlyList<PlacedProblem> Problems => read.Problems;

    public PlacedProblem Placed(DefinitionProblem problem) => read.Placed(problem);

    /// <summary>Called by the framework. JSON that cannot be read is refused as in every other request.</summary>
    public static async ValueTask<DefinitionBody?> BindAsync(HttpContext context)
    {
        ArgumentNullException.ThrowIfNull(context);
        if (context.Request.ContentType?.StartsWith(Yaml, StringComparison.OrdinalIgnoreCase) == true)
        {
            using var reader = new StreamReader(context.Request.Body, Encoding.UTF8);
            return new DefinitionBody(DefinitionYaml.Read(await reader.ReadToEndAsync(context.RequestAborted)));
        }

        if (!context.Request.HasJsonContentType())
        {
            throw new BadHttpRequestException($"The definition is read as application/json or {Yaml}.", StatusCodes.Status415UnsupportedMediaType);
        }

        try
        {
            var definition = await context.Request.ReadFromJsonAsync<CrossingDefinition>(DefinitionJson.Options, context.RequestAborted);
            return new DefinitionBody(new ReadDefinition(definition ?? throw new JsonException("There is no document."), [], new Dictionary<string, DefinitionPlace>()));
        }
        catch (JsonException exception)
        {
            throw new BadHttpRequestException("The document cannot be read.", exception);
        }
    }
}
