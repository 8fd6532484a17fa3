/** A recipe for the chosen takes: which one, its lines, and off it goes. */
import { useState } from 'react'
import { useNavigate } from 'react-router'
import { answer, client } from '../api/client'
import { useRecipes } from '../steps/recipe/RecipePanel'
import { Button, Dialog, inputLook } from '../ui/controls'

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
  const [trouble, setTrouble] = useState('')
  const navigate = useNavigate()
  const recipe = recipes.data?.find((r) => r.id === chosen)
  const start = async () => {
    try {
      const batch = await answer(
        client.POST('/api/workspaces/{workspace_id}/batches', {
          params: { path: { workspace_id: workspace } },
          body: { recipe: chosen, takes },
        }),
      )
      navigate(`/batch/${batch.id}`)
    } catch (reason) {
      setTrouble((reason as Error).message)
    }
  }
  return (
    <Dialog
      open
      onClose={onClose}
      title={`A recipe for ${takes.length} ${takes.length === 1 ? 'take' : 'takes'}`}
    >
      <div className="flex flex-col gap-3 overflow-y-auto px-4 py-3">
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
        {trouble && (
          <p role="alert" className="text-bad">
            {trouble}
          </p>
        )}
      </div>
      <div className="flex gap-2 border-rule border-t px-4 py-3 [&>button]:h-8 [&>button]:flex-1">
        <Button onClick={onClose}>Not now</Button>
        <Button kind="primary" disabled={!recipe} onClick={() => void start()}>
          Run the recipe
        </Button>
      </div>
    </Dialog>
  )
}
