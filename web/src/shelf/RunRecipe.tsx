/** A recipe for the chosen takes: which one, its lines, and off it goes. */
import { useState } from 'react'
import { useNavigate } from 'react-router'
import { answer, client } from '../api/client'
import { useRecipes } from '../steps/recipe/RecipePanel'
import { inputLook } from '../ui/controls'
import { counted } from '../ui/numbers'
import { Ask } from './Ask'

export function RunRecipe({
  workspace,
  takes,
  onClose,
}: {
  workspace: number
  takes: number[]
  onClose: () => void
}) {
  const recipes = useRecipes(workspace)
  const [chosen, setChosen] = useState(0)
  const navigate = useNavigate()
  const recipe = recipes.data?.find((r) => r.id === chosen)
  const start = async () => {
    const batch = await answer(
      client.POST('/api/workspaces/{workspace_id}/batches', {
        params: { path: { workspace_id: workspace } },
        body: { recipe: chosen, takes },
      }),
    )
    navigate(`/batch/${batch.id}`)
  }
  return (
    <Ask
      title={`A recipe for ${counted(takes.length, 'take')}`}
      action="Run the recipe"
      ready={recipe !== undefined}
      onStart={start}
      onClose={onClose}
    >
      <select
        aria-label="Recipe"
        className={`${inputLook} w-full`}
        value={chosen}
        onChange={(e) => setChosen(Number(e.target.value))}
      >
        {recipes.data?.map((r) => (
          <option key={r.id} value={r.id}>
            {r.name}
          </option>
        ))}
      </select>
      <ol className="list-decimal pl-6 text-ink-2">
        {recipe?.told.map((text, k) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: lines may be alike, their order is theirs
          <li key={k}>{text}</li>
        ))}
      </ol>
      <p className="text-ink-3">
        The lines are added to each take's clip. A take on which a line fails stays as it is.
      </p>
    </Ask>
  )
}
